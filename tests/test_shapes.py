"""Test orders with separate lines, and columns per channel: equal to the plain rows that they
represent.
"""

import pandas as pd
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

import fairladder as fl
from conftest import DATABASES, in_database, times
from fairladder.value.histories import costs


def scheme_in(folder, text):
    (folder / "scheme.toml").write_text(text)
    return folder / "scheme.toml"


LINES_FILE = '[orders]\norder = "id"\ncustomer = "member"\nplaced = "day"\n[lines]\nfile = "lines.csv"\norder = "order_no"\nunit_price = "price"\nquantity = "pieces"\n'


@settings(max_examples=times(5), deadline=None)
@example([("ann", 1)], [(0, 1, 1)])  # nothing is set aside
@given(
    st.lists(
        st.tuples(st.sampled_from(["ann", "bo", "cy"]), st.integers(1, 28)), min_size=1, max_size=8
    ),
    st.lists(st.tuples(st.integers(0, 9), st.integers(1, 999), st.integers(1, 4)), max_size=20),
)
def test_lines_file_equals_joined_rows(tmp_path_factory, orders, lines):
    """Counts and sums as of the inner join; rows without a match are set aside, and the balance
    adds up.
    """
    folder = tmp_path_factory.mktemp("columns")
    left = pd.DataFrame(
        [(str(i), m, f"2026-01-{d:02d}") for i, (m, d) in enumerate(orders)],
        columns=["id", "member", "day"],
    )
    right = pd.DataFrame(
        [(f" {o} ", f"{p / 100:.2f}", q) for o, p, q in lines],
        columns=["order_no", "price", "pieces"],
    )
    left.to_csv(folder / "orders.csv", index=False)
    right.to_csv(folder / "lines.csv", index=False)
    opened = fl.open_orders(
        folder / "orders.csv", scheme=scheme_in(folder, LINES_FILE), allow_set_aside=True
    )
    joined = right.assign(id=right["order_no"].str.strip()).merge(left, on="id")
    wanted = joined.assign(
        cents=[
            round(float(p) * 100) * q
            for p, q in zip(joined["price"], joined["pieces"], strict=True)
        ]
    )
    table = opened.customers(as_of="2026-01-31").set_index("customer")
    assert table["orders"].to_dict() == wanted.groupby("member")["id"].nunique().to_dict()
    assert (table["spend"] * 100).round().astype(int).to_dict() == wanted.groupby("member")[
        "cents"
    ].sum().to_dict()
    balance = opened.balance
    alone = set(left["id"]) - set(joined["id"])
    assert (balance.used, balance.set_aside) == (len(joined), len(right) - len(joined) + len(alone))
    aside = opened.set_aside
    output = sorted(
        zip(
            aside["file"].map(lambda f: f.rsplit("/")[-1]),
            aside["row"],
            aside["reason"],
            strict=True,
        )
    )
    lost = [
        ("lines.csv", i + 2, "no-customer")
        for i, o in enumerate(right["order_no"])
        if o.strip() not in set(left["id"])
    ]
    assert output == sorted([*lost, *(("orders.csv", int(i) + 2, "no-amount") for i in alone)])


def test_joins_that_would_multiply_rows_are_refused(tmp_path):
    scheme = scheme_in(tmp_path, LINES_FILE)
    (tmp_path / "lines.csv").write_text("order_no,price,pieces\n1,2.50,2\n")
    for text, message in (
        (
            "id,member,day\n1,ann,2026-01-01\n1,bo,2026-01-02\n",
            "has 1 order ids on more than one row, such as `1`. Their lines would count twice",
        ),
        (
            "id,member,day,price\n1,ann,2026-01-01,3\n",
            "both have a column `price`. Rename it in one of them.",
        ),
        (
            "nr,member,day\n1,ann,2026-01-01\n",
            "has no column `id`, on which orders and lines are joined. There are: `nr`, `member`, `day`.",
        ),
    ):
        (tmp_path / "orders.csv").write_text(text)
        with pytest.raises(fl.FairLadderError) as caught:
            fl.open_orders(tmp_path / "orders.csv", scheme=scheme)
        assert message in str(caught.value)


def test_customer_column_per_channel():
    """Row 1 is Ann's on the web, row 2 Bo's on both, row 3 has no customer: 2 customers, 3 orders,
    one row set aside.
    """
    frame = pd.DataFrame(
        {
            "order": [1, 2, 3],
            "placed": ["2026-01-01"] * 3,
            "amount": [1, 2, 4],
            "web_id": ["ann", "bo", None],
            "stall_id": [None, "bo", " "],
        }
    )
    scheme = {
        "orders": {"channel_customers": {"web": "web_id", "stall": "stall_id"}, "order": "order"}
    }
    orders = fl.open_orders(frame, scheme=scheme, allow_set_aside=True)
    table = orders.customers()
    assert table[["customer", "spend"]].to_numpy().tolist() == [["ann", 1.0], ["bo", 4.0]]
    assert table["only_channel"].fillna("").tolist() == ["web", ""]
    assert orders.set_aside[["row", "reason"]].to_numpy().tolist() == [[3, "no-customer"]]
    with pytest.raises(
        fl.SchemeError,
        match=r"has no column `web`, which channel_customers names for `web`. Did you mean `web_id`\?",
    ):
        fl.open_orders(frame, scheme={"orders": {"channel_customers": {"web": "web"}}})


SIDES = pd.DataFrame(
    {"who": ["ann", "bo", "ann", "cy"], "day": ["2026-01-05", "2026-01-06", "2026-02-07", "2026-02-08"],
     "web": ["10,50", "", "3,00", ""], "stall": ["", "2,25", "4,00", None], "back": ["0,00", "", "1,50", "9,00"]}
)  # fmt: skip
BY_CHANNEL = {
    "customer": "who",
    "placed": "day",
    "channel_amounts": {"web": "web", "market": "stall"},
}
#: Settings → customer → orders, refunds, spend; and the reasons of set-aside rows.
WHAT_THEY_SAY = {
    "channels": (BY_CHANNEL, {"ann": (3, 0, 17.5), "bo": (1, 0, 2.25)}, ["no-amount"]),
    "days": ({"customer": "who", "day_amounts": {"2026-01-31": "web", "2026-02-28": "stall"}}, {"ann": (3, 0, 17.5), "bo": (1, 0, 2.25)}, ["no-date"]),
    "debit and credit": ({"customer": "who", "placed": "day", "amount": "web", "credit": "back"},
                         {"ann": (1, 0, 10.5), "cy": (0, 1, -9.0)}, ["no-amount", "bad-amount"]),  # ann's second row has both
    "money off": ({"customer": "who", "placed": "day", "amount": "web", "discount": "back", "discount_as": "amount"},
                  {"ann": (2, 0, 12.0)}, ["no-amount", "no-amount"]),  # 10.50 − 0 and 3.00 − 1.50
}  # fmt: skip


@pytest.mark.parametrize("engine", ["embedded", *DATABASES])
@pytest.mark.parametrize("shape", WHAT_THEY_SAY)
def test_amount_columns_become_rows(tmp_path, engine, shape):
    settings, people, reasons = WHAT_THEY_SAY[shape]
    source = SIDES if engine == "embedded" else in_database(engine, SIDES, tmp_path, table="sides")
    scheme = {"orders": settings | ({} if engine == "embedded" else {"table": "sides"})}
    orders = fl.open_orders(source, scheme=scheme, allow_set_aside=True)
    table = orders.customers().set_index("customer")
    assert {w: tuple(table.loc[w, ["orders", "refunds", "spend"]]) for w in table.index} == people
    assert orders.set_aside["reason"].tolist() == reasons
    if shape == "channels":
        assert table["only_channel"].fillna("").to_dict() == {"ann": "", "bo": "market"}
    if shape == "days":
        assert table.loc["ann", "first_order"] == pd.Timestamp("2026-01-31")


def test_advised_scheme_line_reads_side_by_side_columns(tmp_path, fairladder):
    """Months: 1 + 2, 3.5 + 1.2; the scheme that `start` writes works once its line is uncommented."""
    (tmp_path / "o.csv").write_text("Cust;Jan 2026;Feb 2026;Mar 2026\na;1,00;2,00;\nb;;3,50;1,20\n")
    done = fairladder("start", "o.csv", cwd=tmp_path)
    line = 'day_amounts = { "2026-01-31" = "Jan 2026", "2026-02-28" = "Feb 2026", "2026-03-31" = "Mar 2026" }'
    assert (done.returncode, line in done.stderr) == (1, True), done.stderr
    text = (tmp_path / "scheme.toml").read_text()
    assert f"\n# {line}" in text
    (tmp_path / "scheme.toml").write_text(text.replace(f"# {line}", line))
    done = fairladder(
        "customers",
        "o.csv",
        "--scheme",
        "scheme.toml",
        "--columns",
        "customer,spend,last_order",
        cwd=tmp_path,
    )
    assert done.stdout.splitlines()[1:] == ["a,3.00,2026-02-28", "b,4.70,2026-03-31"]
    for keys, says in (
        ({"channel_amounts": {"a": "x"}, "channel_customers": {"a": "y"}}, "cannot be combined"),
        ({"channel_amounts": {"a": "x"}, "amount": "y"}, "remove `amount`"),
        ({"credit": "x"}, "`credit` needs `amount`"),
        ({"day_amounts": {"January": "x"}}, "expected dates and their columns"),
        (
            {"customer": "who", "placed": "day", "channel_amounts": {"a": "wep"}},
            "Did you mean `web`",
        ),
    ):
        with pytest.raises(fl.SchemeError, match=says):
            fl.open_orders(SIDES, scheme={"orders": keys})


@pytest.mark.parametrize("engine", ["embedded", *DATABASES])
def test_cents_are_read_as_minor_units(tmp_path, engine):
    """By the column's name if all cells are whole, or by the scheme; costs too; 4 decimals; a price
    times a quantity.
    """
    frame = pd.DataFrame({"customer": list("aab"), "placed": "2026-01-05", "amount_cents": ["1999", "1", "-250"], "cost": ["500", "0", "100"],
                          "pence": ["33", "7", "9"], "pieces": ["3", "2", "0.5"]})  # fmt: skip
    source = frame if engine == "embedded" else in_database(engine, frame, tmp_path, table="cents")

    def spend(decimals=2, **orders):
        settings = {
            "customer": "customer",
            "placed": "placed",
            **orders,
            **({} if engine == "embedded" else {"table": "cents"}),
        }
        opened = fl.open_orders(
            source, scheme={"orders": settings, "money": {"decimals": decimals}}
        )
        return opened, opened.customers()["spend"].tolist()

    output, money = spend(amount="amount_cents")
    assert money == [20.0, -2.5]
    assert any("`amount_cents` is read in minor units" in note for note in output.notes)
    assert spend(amount="amount_cents", amount_unit="major")[1] == [2000.0, -250.0]
    assert spend(4, amount="pence")[1] == [0.0040, 0.0009]
    assert spend(amount="cost")[1] == [500.0, 100.0]
    assert spend(unit_price="pence", quantity="pieces")[1] == [
        1.13,
        0.05,
    ]  # 99 + 14; 4.5 rounds away from zero
    if engine == "embedded":
        cost = output.rows.scheme.with_options(orders={"cost": "cost"})
        assert costs(fl.open_orders(frame, scheme=cost)).total == 6.0

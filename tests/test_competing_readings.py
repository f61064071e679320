"""Test exports that can be read in two ways: decided by their cells, resolved by a question, or reported with
the effect of the other reading.
"""

import random
import shlex
from decimal import ROUND_HALF_UP, Decimal
from pathlib import Path

import pytest
import python_calamine
from hypothesis import given, settings
from hypothesis import strategies as st

import fairladder as fl
from conftest import times
from fairladder.value.histories import costs as costs_of


def written(path, columns, rows):
    path.write_text(
        "\n".join(",".join(f'"{cell}"' for cell in row) for row in [columns, *rows]) + "\n"
    )
    return path


def day(i):
    return f"202{4 + i % 2}-0{i % 9 + 1}-1{i % 9}"


def amounts(cells):
    """Return orders of three customers with these amounts in turn."""
    return ("Customer", "Order", "Date", "Amount"), [
        (f"C{i % 3}", i, day(i), cell) for i, cell in enumerate(cells)
    ]


def opened(tmp_path, table, **scheme):
    return fl.open_orders(written(tmp_path / "o.csv", *table), scheme=scheme or None)


#: Cells of amounts → the question about them, or the total spend.
CELLS = {
    "currencies": (["10.00 EUR", "20.00 USD", "5 EUR"], "in several currencies (EUR, USD)"),
    "signs of currencies": (["£5", "$5", "3000 JPY"], "in several currencies ($, GBP, JPY)"),
    "one currency": (["10.00 EUR", "5 EUR", "7"], Decimal(22)),
    "points before three digits": (["1.200", "950"], "The point in `1.200` can be a decimal mark or a thousands separator"),
    "points that other cells prove": (["1.200", "950.50"], Decimal("951.70")),
    "no thousands begin with 0": (["0.200", "1.300"], Decimal("1.50")),
    "lakhs": (["1,23,456.00", "950.00"], Decimal(124406)),
    "Swiss": (["CHF 1’200.–", "CHF 950.50"], Decimal("2150.50")),
    "Arabic digits": (["١٬٢٠٠٫٥٠", "١٢٫٥"], Decimal(1213)),
    "Devanagari digits": (["१२.५०", "३"], Decimal("15.50")),
    "right to left": (["\u200f5.00 ₪", "\u200f7.50 ₪"], Decimal("12.50")),
    "signs": (["€0.00", "(5.00)", "+7.00", "−1.00"], Decimal(1)),
}  # fmt: skip


@pytest.mark.parametrize("case", CELLS)
def test_ambiguous_amounts_are_proven_or_raise_a_question(tmp_path, case):
    cells, outcome = CELLS[case]
    if isinstance(outcome, str):
        with pytest.raises(fl.FairLadderError) as caught:
            opened(tmp_path, amounts(cells)).customers()
        assert outcome in str(caught.value)
    else:
        spend = opened(tmp_path, amounts(cells)).customers()["spend"].sum()
        assert Decimal(str(spend)) == outcome


def test_chosen_currency_sets_other_currencies_aside(tmp_path):
    """Of four amounts, 15.00 are in euros and 27.00 in dollars; `none` treats all as one currency."""
    table = amounts(["10.00 EUR", "20.00 USD", "5 EUR", "7 USD"])
    chosen = opened(tmp_path, table, money={"currency": "EUR"})
    assert (chosen.customers()["spend"].sum(), chosen.balance.reasons) == (
        15.0,
        {"other-currency": 2},
    )
    roles = {"customer": "Customer", "order": "Order", "placed": "Date", "amount": "Amount"}
    for mark in ({}, {"decimal_mark": "."}):
        with pytest.raises(fl.DataError, match="several currencies"):
            opened(tmp_path, table, orders={**roles, **mark}).customers()
    assert (
        opened(tmp_path, table, orders={**roles, "currency": "none"}).customers()["spend"].sum()
        == 42.0
    )
    (tmp_path / "rates.csv").write_text("currency,rate\nUSD,0.5\n")
    rates = {"currency": "EUR", "rates": str(tmp_path / "rates.csv")}
    assert opened(tmp_path, table, orders=roles, money=rates).customers()["spend"].sum() == 28.5
    both = (
        ("Customer", "Date", "Amount", "Amount (EUR)"),
        [(f"C{i}", day(i), f"{i}.50 {'EUR' if i % 2 else 'USD'}", f"{i}.10") for i in range(9)],
    )
    with pytest.raises(fl.DataError, match=r"--amount-column 'Amount \(EUR\)'"):
        opened(
            tmp_path, both, orders={"amount": "Amount", "customer": "Customer", "placed": "Date"}
        ).customers()


def table(columns, row, n=40):
    return tuple(columns.split(",")), [row(i) for i in range(n)]


dice = random.Random(7)
QUANTITIES = [dice.choice((1, 1, 2, 3)) for _ in range(40)]
#: An export → words of the question that it must raise.
QUESTIONS = {
    "price or amount": (table("Customer,Order,Date,Ilość,Cena", lambda i: (f"C{i % 7}", i, day(i), QUANTITIES[i], f"{i}.50")),
                        "--unit-price-column Cena --quantity-column 'Ilość'"),
    "price by its cells only": (table("Customer,Order,Date,Menge,Zahl", lambda i: (f"C{i % 7}", i, day(i), QUANTITIES[i], f"{i}.50")),
                                "--unit-price-column Zahl --quantity-column Menge"),
    "unknown words": (
        table("Customer,Order,Date,Xyz,Qux", lambda i: (f"C{i % 7}", i, day(i), QUANTITIES[i], f"{i}.50")),
        "--unit-price-column Qux --quantity-column Xyz",
    ),
    "payout or price": (table("Customer,Order,Date,Item price,Payout", lambda i: (f"C{i % 7}", i, day(i), f"{i}.50", f"{i}.10")),
                        "`Payout` or `Item price` could be the amount"),
    "name or address": (table("Email,Customer,Order,Date,Amount", lambda i: (f"a{i % 9}@x.example", ("Ann Lee", "Bo Ek")[i % 2], i, day(i), f"{i}.50")),
                        "`Customer` or `Email` could be the customer's id"),
    "no header": (table(f"C9,1,{day(1)},100.20", lambda i: (f"C{i % 7}", i, day(i), f"{i}.50")), "pass --header-row 0"),
    "title without header": (table("Sales of spring", lambda i: (f"C{i % 7}", i, day(i), f"{i}.50")), "looks like data, not like column names"),
    "pledged and received": (table("Customer,Order,Date,Pledged,Received", lambda i: (f"C{i % 7}", i, day(i), f"{i + 1}.50", f"{(i + 1) * 0.95:.2f}")),
                             "`Pledged` or `Received` could be the amount. Choose with --amount-column NAME."),
    "half year of months": (table("Customer,2026-01,2026-02,Half year", lambda i: (f"C{i}", f"{i}.50", f"{i * 7 % 13}.25", f"{i + i * 7 % 13}.75")),
                            'day_amounts = { "2026-01-31" = "2026-01", "2026-02-28" = "2026-02" }'),
    "percents or fractions": (table("Customer,Order,Date,Price,Quantity,discount_pct", lambda i: (f"C{i % 7}", i, day(i), 10, 2, i % 2)),
                              "can be fractions of the price or percentages"),
    "dates in three columns": (table("Customer,Year,Month,Day,Amount", lambda i: (f"C{i % 7}", 2026, i % 9 + 1, i % 20 + 1, f"{i}.50")),
                               "The columns `Year`, `Month`, `Day` contain parts of a date"),
    "Buddhist years": (table("Customer,Order,Date,Amount", lambda i: (f"C{i % 7}", i, f"2569-0{i % 9 + 1}-11", f"{i}.50")), "the Buddhist calendar, 543 ahead"),
}  # fmt: skip


@pytest.mark.parametrize("case", QUESTIONS)
def test_competing_readings_raise_one_question(tmp_path, case):
    export, words = QUESTIONS[case]
    with pytest.raises(fl.FairLadderError) as caught:
        opened(tmp_path, export).customers()
    assert words in str(caught.value)


#: An export → the finding that must be printed below its results, and its money.
WARNED = {
    "kinds of rows": (table("Customer,Order,Date,Amount,Entry", lambda i: (f"C{i // 2 % 7}", i // 2, day(i // 2), "1.50", ("sale", "payment")[i % 2])),
                      "kinds-of-rows", "30.00"),
    "test rows": (table("Customer,Order,Date,Amount,is_test", lambda i: (f"C{i % 7}", i, day(i), "1.50", str(i % 4 == 0).lower())), "kinds-of-rows", "15.00"),
    "statuses not known": (table("Customer,Order,Date,Amount,Status", lambda i: (f"C{i % 7}", i, day(i), "1.50", ("paid", "on hold")[i % 2])), "statuses", None),
    "void in Czech": (table("Customer,Order,Date,Amount,Status", lambda i: (f"C{i % 7}", i, day(i), "1.50", ("zaplaceno", "zrušeno")[i % 2])),
                      "cancelled-orders", "30.00"),
    "void in Korean": (table("Customer,Order,Date,Amount,Status", lambda i: (f"C{i % 7}", i, day(i), "1.50", ("완료", "취소")[i % 2])), "cancelled-orders", "30.00"),
    "ids in scientific notation": (table("Customer,Order,Date,Amount", lambda i: (f"7.0{i % 7}E+12", i, day(i), "1.50")), "spoiled-ids", "60.00"),
    "texts for no customer": (table("Customer,Order,Date,Amount", lambda i: ("\\N" if i % 4 else f"C{i}", i, day(i), "1.50")), "spoiled-ids", "45.00"),
    "lost zeros": (table("Customer,Order,Date,Amount", lambda i: (("00123", "123", "00700")[i % 3], i, day(i), "1.50")), "id-near-twins", "19.50"),
    "discounts of 0 and 1": (table("Customer,Order,Date,Price,Quantity,discount", lambda i: (f"C{i % 7}", i, day(i), 10, 2, i % 2)), "full-discounts", None),
    "unread amounts": (table("Customer,Order,Date,Amount", lambda i: (f"C{i % 7}", i, day(i), "1.50" if i % 8 else "about 900 or so")), "unread-amounts", "4500.00"),
}  # fmt: skip


@pytest.mark.parametrize("case", WARNED)
def test_assumptions_are_printed_above_the_result_with_their_money(tmp_path, case, fairladder):
    export, code, money = WARNED[case]
    orders = opened(tmp_path, export)
    found = {f.code: f for f in orders.findings}
    assert found[code].level in ("warning", "error")
    assert found[code].money == money
    assert found[code].sentence in fairladder("score", tmp_path / "o.csv").stderr
    assert fairladder("score", tmp_path / "o.csv", "--fail-on", "warning").returncode == 1
    assert orders.findings == tuple(f for f in orders.check().findings if f.code in found)


def test_conditions_in_advice_can_be_pasted(tmp_path, fairladder):
    """Each `--where` in an advice is run unchanged, and its problem disappears, also for columns
    with spaces and quotes.
    """
    columns = ("Customer", "Order", "Date", "Amount", "payment state", "Entry kind")
    states, kinds = ("paid", "cancelled", "client's wish"), ("sale", "fee")
    rows = [
        (f"C{i % 7}" if i % 9 else "test", i, day(i), "1.50", states[i % 3], kinds[i % 2])
        for i in range(60)
    ]
    path = written(tmp_path / "o.csv", columns, rows)
    given = ["--order-column", "Order", "--amount-column", "Amount", "--customer-column", "Customer", "--placed-column", "Date",
             "--status-column", "payment state"]  # fmt: skip
    roles = {
        "order": "Order",
        "amount": "Amount",
        "customer": "Customer",
        "placed": "Date",
        "status": "payment state",
    }
    advised = {
        f.code: f
        for f in fl.open_orders(path, scheme={"orders": roles}).findings
        if "--where" in f.advice
    }
    assert set(advised) == {"cancelled-orders", "statuses", "kinds-of-rows", "odd-accounts"}
    for code, finding in advised.items():
        option = shlex.split(finding.advice[finding.advice.index("--where") :].removesuffix("."))
        done = fairladder("check", path, *given, *option, "--fail-on", "never")
        assert done.stderr.count("Error") == 0, (code, done.stderr)
        left = fl.open_orders(path, scheme={"orders": {**roles, "where": option[1]}})
        assert 0 < left.balance.used < 60
        assert code not in {f.code for f in left.findings if f.level == "warning"}


def exact(text, decimals=2):
    return Decimal(text).quantize(Decimal(1).scaleb(-decimals), ROUND_HALF_UP)


PRICES = st.sampled_from(["10", "1.005", "2.675", "0.285", "-4.5", "100.10", "0.07", "33.333"])


@settings(max_examples=times(8), deadline=None)
@given(
    rows=st.lists(st.tuples(PRICES, st.sampled_from(["EUR", "USD"]), PRICES, st.sampled_from(["0", "0.1", "0.25"])), min_size=1, max_size=12),
    cents=st.booleans(), rates=st.booleans(), discount=st.booleans(), rate=st.sampled_from(["0.9", "1.1053", "157"]), condition=st.booleans(),
)  # fmt: skip
def test_money_is_converted_and_rounded_once(
    tmp_path_factory, rows, cents, rates, discount, rate, condition
):
    """Amount, cost, a fee, sums and conditions with rates, cents and discounts, against plain
    decimals: each cell is rounded once.
    """
    folder = tmp_path_factory.mktemp("money")
    part = Decimal("0.01") if cents else Decimal(1)
    rows = rows if rates else [(p, "EUR", c, d) for p, _, c, d in rows]
    lines = [
        (f"C{i % 3}", i, day(i), p, 3, d if discount else "", cur, c, c)
        for i, (p, cur, c, d) in enumerate(rows)
    ]
    path = written(
        folder / "o.csv",
        ("who", "slip", "on", "price", "pieces", "off", "cur", "cost", "fee"),
        lines,
    )
    (folder / "rates.csv").write_text(f"currency,rate\nUSD,{rate}\n")
    roles = {"customer": "who", "order": "slip", "placed": "on", "unit_price": "price", "quantity": "pieces", "discount": "off", "currency": "cur",
             "cost": "cost", "discount_as": "fraction", "decimal_mark": ".", "amount_unit": "minor" if cents else "major"}  # fmt: skip
    roles |= {"where": "cost > 1"} if condition else {}
    money = {"currency": "EUR", "columns": ["fee"]} | (
        {"rates": str(folder / "rates.csv")} if rates else {}
    )
    one = [(Decimal(rate) if cur == "USD" else Decimal(1)) * part for _, cur, _, _ in rows]
    spent = [
        exact(Decimal(p) * 3 * (1 - Decimal(d if discount else "0")) * r)
        for (p, _, _, d), r in zip(rows, one, strict=True)
    ]
    costs = [exact(Decimal(c) * r) for (_, _, c, _), r in zip(rows, one, strict=True)]
    used = [
        i
        for i, c in enumerate(costs)
        if not condition or (c if cents or rates else Decimal(rows[i][2])) > 1
    ]
    orders = fl.open_orders(path, scheme={"orders": roles, "money": money}, allow_set_aside=True)
    assert orders.balance.used == len(used)
    if not used:
        return
    assert Decimal(str(orders.customers()["spend"].sum())).quantize(Decimal("0.01")) == sum(
        spent[i] for i in used
    )
    assert Decimal(str(costs_of(orders).total)).quantize(Decimal("0.01")) == sum(
        costs[i] for i in used
    )
    paid = [i for i in used if spent[i] > 0]
    if paid:
        fees = fl.breakdown(orders, "who", measure="sum(fee)").frame.set_index("row")["sum(fee)"][
            "total"
        ]
        assert Decimal(str(fees)) == sum(exact(Decimal(rows[i][2]) * one[i], 4) for i in paid)
        pieces = fl.breakdown(orders, "who", measure="sum(quantity)").frame.set_index("row")[
            "sum(quantity)"
        ]["total"]
        assert pieces == sum(3 if spent[i] > 0 else -3 if spent[i] < 0 else 0 for i in used)


def test_groups_with_our_names_are_distinguished(tmp_path):
    """A real `total`, `mixed`, `the rest` and `unknown`, 3 × 1.50 each, and blank cells; all add up
    to 22.50.
    """
    names = ("total", "mixed", "the rest", "unknown", "")
    orders = opened(
        tmp_path,
        table(
            "customer,order,placed,amount,kind",
            lambda i: (f"c{i}", i, day(i), "1.50", names[i % 5]),
            15,
        ),
    )
    found = fl.breakdown(orders, "kind").frame
    assert found.set_index("row")["spend"].to_dict() == {
        '"mixed"': 4.5,
        '"the rest"': 4.5,
        '"total"': 4.5,
        '"unknown"': 4.5,
        "unknown": 4.5,
        "total": 22.5,
    }
    assert found.loc[~found["is_total"], "spend"].sum() == 22.5
    grown = fl.growth(orders, by="kind")
    assert set(grown["kind"]) == {'"mixed"', '"the rest"', '"total"', '"unknown"', "unknown"}
    assert grown["revenue"].sum() == 22.5


def test_as_of_date_does_not_depend_on_where(tmp_path):
    """The latest readable row is of 20 December, even if `where` excludes it: the recency of
    January's customer is 343 days.
    """
    rows = [
        ("a", 1, "2025-01-11", "5.00"),
        ("b", 2, "2025-12-20", "5.00"),
        ("", 3, "2026-05-01", "5.00"),
    ]
    rows += [("b", i, "2025-06-01", "1.00") for i in range(4, 9)]
    one = opened(
        tmp_path,
        (("customer", "order", "placed", "amount"), rows),
        orders={"where": "customer = 'a'"},
    )
    assert one.customers()[["customer", "recency_days"]].values.tolist() == [["a", 343]]


@pytest.mark.parametrize(
    ("head", "text", "note"),
    [
        ("Member_ID", "{:05}", "is matched by its column `Member_ID`"), ("Number", "{:05}", "is matched by its column `Number`: 100.0 %"),
        ("member_id", "{:05}", None), ("Member_ID", "{}", "Probably leading zeros are missing on one side: `00000` in the orders is `0` in the file"),
    ],
)  # fmt: skip
def test_member_ids_are_found_by_name_and_by_values(tmp_path, head, text, note):
    path = written(
        tmp_path / "o.csv",
        *table("member_id,order,placed,amount", lambda i: (f"{i:05}", i, day(i), "1.50")),
    )
    members = written(
        tmp_path / "m.csv", (head, "town"), [(text.format(i), f"t{i % 3}") for i in range(40)]
    )
    reported = [f.sentence for f in fl.open_orders(path, customers=members).findings]
    assert note is None or any(note in sentence for sentence in reported)
    assert note is not None or not any("matched" in sentence for sentence in reported)


def test_many_unmatched_buyers_are_a_warning(tmp_path):
    """14 of 40 ids lost their zeros in the file: 14 buyers with 21.00 of 60.00 are unknown; one in
    200 is a note.
    """
    path = written(
        tmp_path / "o.csv",
        *table("member_id,order,placed,amount", lambda i: (f"{i:05}", i, day(i), "1.50")),
    )
    members = written(
        tmp_path / "m.csv",
        ("member_id", "town"),
        [(f"{i:05}" if i % 3 else i, "t") for i in range(40)],
    )
    found = {f.code: f for f in fl.open_orders(path, customers=members).findings}[
        "unknown-customers"
    ]
    assert (found.level, found.count, found.money) == ("warning", 14, "21.00")
    assert "35.0 % of all buyers" in found.effect
    path = written(
        tmp_path / "o.csv",
        *table("member_id,order,placed,amount", lambda i: (f"{i:05}", i, day(i), "1.50"), 200),
    )
    members = written(
        tmp_path / "m.csv", ("member_id", "town"), [(f"{i:05}", "t") for i in range(199)]
    )
    found = {f.code: f for f in fl.open_orders(path, customers=members).findings}[
        "unknown-customers"
    ]
    assert (found.level, found.count) == ("note", 1)


def test_older_versions_of_an_order_can_be_dropped(tmp_path):
    """Order 1 is open with 10.00 in May and sent with 12.00 in June; order 2 is equal in both;
    order 3 is in June only.
    """
    columns = ("customer", "order", "placed", "amount", "state")
    may = [("a", 1, "2025-05-02", "10.00", "open"), ("b", 2, "2025-05-03", "5.00", "paid")]
    june = [("a", 1, "2025-05-02", "12.00", "sent"), may[1], ("c", 3, "2025-06-03", "7.00", "paid")]
    files = [
        written(tmp_path / f"{name}.csv", columns, rows)
        for name, rows in (("5-may", may), ("6-june", june))
    ]
    orders = fl.open_orders(files)
    found = {f.code: f for f in orders.findings}
    assert (found["changed-orders"].count, found["changed-orders"].money) == (1, "10.00")
    assert (found["repeats-across-files"].count, found["repeats-across-files"].money) == (1, "5.00")
    assert orders.customers()["spend"].tolist() == [22.0, 10.0, 7.0]
    for drop, spend in (
        ("repeats-across-files", [22.0, 5.0, 7.0]),
        ("older-versions", [12.0, 5.0, 7.0]),
    ):
        dropped = fl.open_orders(files, scheme={"orders": {"drop": drop}})
        assert dropped.customers()["spend"].tolist() == spend
        assert sum(n for _, n, _ in dropped.balance.lines()[1:]) == dropped.balance.rows_read == 5
    # A version that does not count replaces none that does.
    counting = {"drop": "older-versions", "where": "state <> 'sent'"}
    assert fl.open_orders(files, scheme={"orders": counting}).customers()["spend"].tolist() == [
        10.0, 5.0, 7.0,
    ]  # fmt: skip
    one = written(
        tmp_path / "all.csv",
        (*columns, "changed"),
        [(*r, f"2025-07-0{i + 1}") for i, r in enumerate([*may, *june])],
    )
    by_column = {"drop": "older-versions", "version": "changed"}
    assert fl.open_orders(one, scheme={"orders": by_column}).customers()["spend"].tolist() == [
        12.0,
        5.0,
        7.0,
    ]
    with pytest.raises(fl.SchemeError, match="needs a column that sorts the versions"):
        fl.open_orders(one, scheme={"orders": {"drop": "older-versions"}}).customers()


def test_frame_without_its_scheme_is_refused(tmp_path):
    customers = opened(tmp_path, amounts(["5.50"] * 9)).customers()
    rebuilt = customers.merge(customers[["customer"]].assign(town="x"), on="customer")
    rebuilt.attrs.clear()
    for ask in (fl.score, fl.fit_ladders, fl.fairness_of):
        with pytest.raises(fl.UsageError, match="has lost the scheme of its orders"):
            ask(rebuilt)
    assert len(fl.score(rebuilt, fl.Scheme())) == 3


def test_start_writes_the_customers_file_into_the_scheme(shop, tmp_path, fairladder):
    done = fairladder(
        "start",
        shop / "orders.csv",
        "--customers",
        shop / "members.csv",
        "--out",
        tmp_path / "first.toml",
    )
    assert done.returncode == 0, done.stderr
    scheme = fl.load_scheme(tmp_path / "first.toml")
    assert (Path(scheme.customers.file).resolve(), scheme.customers.customer) == (
        (shop / "members.csv").resolve(),
        "member_no",
    )
    assert "district" in fl.open_orders(shop / "orders.csv", scheme=scheme).customers()


def test_columns_with_our_names_keep_their_texts(tmp_path, fairladder):
    """Rows set aside with source columns `amount`, `spend`, `orders` and so on: the report's
    workbook keeps their texts and sums none.
    """
    names = ("amount", "placed", "orders", "spend", "revenue", "refunds", "lines")
    rows = [
        (
            "" if i % 9 == 0 else f"K{i % 7}",
            i,
            day(i),
            f"{i}.50",
            *(("12", "x")[i % 2] for _ in names),
        )
        for i in range(60)
    ]
    path = written(tmp_path / "o.csv", ("Kunde", "Beleg", "Datum", "Betrag", *names), rows)
    given = [
        "--customer-column",
        "Kunde",
        "--order-column",
        "Beleg",
        "--placed-column",
        "Datum",
        "--amount-column",
        "Betrag",
    ]
    done = fairladder("report", path, *given, "--out", tmp_path / "r.xlsx")
    assert done.returncode == 0, done.stderr
    sheet = (
        python_calamine.CalamineWorkbook.from_path(str(tmp_path / "r.xlsx"))
        .get_sheet_by_name("Set aside")
        .to_python()
    )
    assert sheet[0] == ["row", "reason", "Kunde", "Beleg", "Datum", "Betrag", *names]
    assert [row[6:] for row in sheet[1:]] == [
        ["12" if i % 2 == 0 else "x"] * 7 for i in range(0, 60, 9)
    ]


@pytest.mark.parametrize(
    ("text", "scheme", "words"),
    [
        ("Printed by the till\n", {}, "It looks like a note below the table"),
        ("C1,99,2025\n", {}, "The line may be cut off"),
        ("", {"orders": {"where": "ROUND(Amount, -1) = 1"}}, "needs 0 to 9 digits in ROUND"),
        ("", {"tiers": {"x": {"of": "spend", "top_percents": [float("nan")]}}}, "not nan"),
    ],
)
def test_unreadable_cells_are_reported_with_advice(tmp_path, text, scheme, words):
    path = written(tmp_path / "o.csv", *amounts(["5.50"] * 9))
    path.write_text(path.read_text() + text)
    with pytest.raises(fl.FairLadderError, match=words):
        fl.open_orders(path, scheme=scheme or None).customers()


def test_credits_in_any_notation_are_refunds(tmp_path):
    """Purchases of 10.00; credits of 5.00, 2.00 and 1.00 in different notations."""
    rows = [
        ("C", i, day(i), a, b)
        for i, (a, b) in enumerate([("10.00", ""), ("", "(5.00)"), ("", "-2.00"), ("", "+1.00")])
    ]
    roles = {
        "customer": "who",
        "order": "slip",
        "placed": "on",
        "amount": "debit",
        "credit": "credit",
    }
    assert opened(
        tmp_path, (("who", "slip", "on", "debit", "credit"), rows), orders=roles
    ).customers()["spend"].tolist() == [2.0]

"""Test every finding of `check` on rows made to show it: count, effect, examples, and no finding
otherwise.
"""

import datetime as dt
import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import fairladder as fl
from fairladder.findings import KNOWN, Finding
from fairladder.findings import finding as registered
from fairladder.ladder import ties_at_cuts

START = dt.date(2024, 1, 1)


def frame_of(lines, columns=("customer", "order", "placed", "amount")):
    return pd.DataFrame(lines, columns=list(columns))


def calm():
    """Return two hundred orders of forty customers over more than a year, without anything
    unusual.
    """
    return [
        (f"c{i % 40:02d}", f"o{i}", START + dt.timedelta(days=3 * i), 10 + i % 7 + i / 100)
        for i in range(200)
    ]


def found(lines, columns=("customer", "order", "placed", "amount"), **settings):
    check = fl.open_orders(
        frame_of(lines, columns), scheme=settings or None, allow_set_aside=True
    ).check()
    return {f.code: f for f in check.findings if f.code != "ties-at-cuts"}


def test_clean_orders_have_no_findings():
    assert found(calm()) == {}


@pytest.mark.parametrize(
    ("extra", "code", "count", "effect", "example"),
    [
        ([("c01", "x", START, 5), ("c01", "x", START, 5), ("c01", "x", START, 5), ("c01", "x", START, 2)], "duplicate-rows", 2, "add 10.00 to spend", "rows 201 and 203"),
        ([("c01", "o2", START, 5)], "shared-order", 1, "they make 2 orders (17.02)", "order o2 from row 3"),
        ([("c01", "new", dt.date(2999, 1, 1), 5)], "after-today", 1, "with 5.00", "row 201, 2999-01-01"),
        ([("c01", "x", START, 5.125), ("c02", "x2", START, 5.124)], "excess-decimals", 2, "changes the total by 0.00", "row 201"),
        ([("C01", "x", START, 5), (" c0 1", "y", START, 7)], "id-near-twins", 1, "the most used spellings have 5 orders and 67.05 of spend, the others 2 orders and 12.00 of spend", "`C01` and `c0 1` and `c01`"),
        ([("c01", "x", START, -4)], "refunds", 1, "from 1 customer", "c01"),
        ([("c01", "x", START, 0)], "zero-orders", 1, "do not count as purchases", "c01"),
        ([("big", "x", START, 10**6)], "one-customer-dominates", 1, "customer has 100 % of all spend", "big"),
    ],
)  # fmt: skip
def test_single_problem_gives_single_finding(extra, code, count, effect, example):
    output = found([*calm(), *extra], time={"as_of": dt.date(2026, 1, 1)})
    assert set(output) == {code}
    assert output[code].count == count
    assert effect in output[code].effect
    assert example in output[code].examples
    assert output[code].level in ("warning", "note")


def test_repeated_totals_are_found():
    """Three orders of three lines each repeat 30.00: spend is 3 × 60.00 too high; one normal order
    does not hide it.
    """
    lines = [
        *calm(),
        *((f"c{o}", f"x{o}", START, 30) for o in range(3) for _ in range(3)),
        ("c01", "z", START, 1),
        ("c01", "z", START, 2),
    ]
    output = found(
        [(*line, i) for i, line in enumerate(lines)],
        ("customer", "order", "placed", "amount", "line"),
    )
    assert set(output) == {"repeated-total"}
    assert "of 4 orders with several rows repeat one amount" in output["repeated-total"].effect
    assert "spend is 180.00 too high" in output["repeated-total"].effect
    assert output["repeated-total"].examples[0] == "order x0 from row 201"


def test_date_ranges_that_split_orders_are_found():
    lines = [*calm(), ("c01", "o1", START + dt.timedelta(days=300), 8)]
    output = found(lines, time={"through": START + dt.timedelta(days=200)})
    assert set(output) == {"straddling-orders"}
    assert (
        output["straddling-orders"].effect
        == "orders have rows inside and outside the date range; outside: 1 row with 8.00"
    )


def test_shared_names_and_short_history_are_found():
    lines = [
        ("1", "a", START, 1, "Ann"),
        ("2", "b", START, 2, "Ann"),
        ("3", "c", START + dt.timedelta(9), 3, "Bo"),
    ]
    output = found(lines, ("customer", "order", "placed", "amount", "name"))
    assert set(output) == {"name-twins", "short-history", "one-customer-dominates"}
    assert output["name-twins"].examples == ("Ann: 1, 2",)
    assert (output["name-twins"].effect, output["short-history"].count) == (
        "names belong to several ids: 2 customers with 2 orders and 3.00 of spend",
        9,
    )


def test_dominant_customer_has_over_a_fifth_of_spend():
    """Of five customers who spent 20 each, one has exactly a fifth, for any returns of a sixth; a
    twentieth more is above it.
    """
    lines = [(f"c{i}", f"o{i}", START + dt.timedelta(100 * i), 20) for i in range(5)]
    assert "one-customer-dominates" not in found([*lines, ("back", "x", START, -10)])
    assert "one-customer-dominates" in found([*lines, ("c3", "y", START, 1)])


def test_spreadsheet_day_numbers_get_advice():
    lines = [(c, o, str(d), a) for c, o, d, a in calm()]
    output = found([*lines, ("c01", "x", "45123", 5)])
    assert output["serial-dates"].examples == ("row 201, 45123",)
    assert "spreadsheet-days" in output["serial-dates"].advice


def split_by_hand(values, rungs):
    """Return how many values a split into equal parts separates from equal ones: of each run that
    is cut, the smaller side.
    """
    ranked = np.sort(values)
    ends = np.cumsum([len(part) for part in np.array_split(ranked, rungs)])[:-1]
    cut = [end for end in ends if 0 < end < len(ranked) and ranked[end - 1] == ranked[end]]
    below = [sum(ranked[:end] == ranked[end]) for end in cut]
    return sum(min(n, sum(ranked == ranked[end]) - n) for n, end in zip(below, cut, strict=True))


@given(st.lists(st.integers(0, 6), max_size=40), st.integers(2, 6))
def test_ties_at_cuts_counts_the_smaller_sides(values, rungs):
    assert ties_at_cuts(values, rungs) == split_by_hand(values, rungs)


def test_ties_note_counts_each_measure_of_the_sample_shop():
    buyers = fl.sample_orders().customers().query("orders > 0")
    worst_first = {
        "recency_days": -buyers["recency_days"].astype(int),
        "orders": buyers["orders"],
        "spend": buyers["spend"],
    }
    ties = {name: split_by_hand(values.to_numpy(), 5) for name, values in worst_first.items()}
    (note,) = [f for f in fl.sample_orders().check().findings if f.code == "ties-at-cuts"]
    assert note.count == sum(ties.values())
    assert all(f"{count:,} by {name}" in note.effect for name, count in ties.items())


def test_ties_at_cuts_are_counted_from_the_worst():
    """Of seven, days since the last order 3, 2 | 1, 0 | 0 | 0 | 0: the cuts after 4, 5 and 6
    separate 1, 2 and 1 of the four zeros.
    """
    days = [0, 0, 0, 0, 1, 2, 3]
    placed = [START - dt.timedelta(d) for d in days]
    orders = fl.open_orders(
        pd.DataFrame({"customer": list("abcdefg"), "placed": placed, "amount": range(1, 8)})
    )
    assert fl.fairness_of(orders.customers())["split_customers"].tolist()[0] == 4


def write(path, rows, columns="member,slip,sold,total,product,state"):
    path.write_text(columns + "\n" + "".join(",".join(map(str, row)) + "\n" for row in rows))
    return path


def test_repeats_across_files_are_found_and_can_be_dropped(tmp_path, fairladder):
    """Fourteen orders of 5.00, four of them in both files; one line of January occurs twice in its
    own file.
    """
    rows = [(f"m{i % 3}", f"s{i}", "2026-01-05", "5.00", "", "paid") for i in range(14)]
    dateless = (
        "m1",
        "s99",
        "",
        "5.00",
        "",
        "paid",
    )  # in both files: set aside twice, it repeats no row that counts
    write(tmp_path / "jan.csv", [*rows[:7], rows[0], dateless])
    write(tmp_path / "feb.csv", [*rows[3:], dateless])
    roles = {"customer": "member", "order": "slip", "placed": "sold", "amount": "total"}
    check = fl.open_orders(str(tmp_path / "*.csv"), scheme={"orders": roles}).check()
    found = {f.code: f for f in check.findings}
    within, across = found["duplicate-rows"], found["repeats-across-files"]
    assert (within.count, within.money, within.examples) == (
        1,
        "5.00",
        ("rows 2 of jan.csv and 9 of jan.csv",),
    )
    assert (across.count, across.money, across.examples[0]) == (
        4,
        "20.00",
        "rows 2 of feb.csv and 5 of jan.csv",
    )
    across_only = fl.open_orders(
        str(tmp_path / "*.csv"), scheme={"orders": {**roles, "drop": "repeats-across-files"}}
    )
    assert (across_only.balance.repeats, across_only.customers()["spend"].sum()) == (4, 75.0)
    assert "repeated-total" not in {f.code for f in check.findings}
    kept = fl.open_orders(
        str(tmp_path / "*.csv"),
        scheme={"orders": {**roles, "drop": "repeats", "where": "file <> 'x'"}},
    )
    assert (kept.balance.repeats, kept.balance.amounts[22], kept.customers()["spend"].sum()) == (
        5,
        2500,
        70.0,
    )
    assert sum(n for _, n, _ in kept.balance.lines()[1:]) == kept.balance.rows_read
    alone = fl.open_orders(
        [tmp_path / "jan.csv", tmp_path / "feb.csv"],
        scheme={"orders": {**roles, "drop": "repeats", "where": "file = 'feb.csv'"}},
    )
    assert alone.customers()["spend"].sum() == 55.0  # filtered-out rows repeat nothing
    done = fairladder(
        "customers",
        tmp_path / "*.csv",
        "--drop",
        "repeats",
        *[f"--{r}-column={c}" for r, c in roles.items()],
    )
    assert "14 rows read" not in done.stdout
    assert "21 rows read: 14 used, 2 set aside, 5 repeats dropped" in done.stderr


def test_errors_are_printed_below_every_result_until_allowed(tmp_path, fairladder):
    """Eight orders of two lines that each repeat the order's total; two of them cancelled."""
    rows = [
        (
            f"m{i % 3}",
            f"s{i}",
            f"2026-0{i % 3 + 1}-05",
            f"{10 + i}.00",
            product,
            "Storniert" if i < 2 else "ok",
        )
        for i in range(8)
        for product in "ab"
    ]
    orders = write(tmp_path / "orders.csv", rows)
    output = "8 of 8 orders with several rows repeat one amount on each"
    for command in ("customers", "growth", "orders", "top", "check"):
        done = fairladder(command, orders)
        assert (done.returncode, f"Error: {output}" in done.stderr, bool(done.stdout)) == (
            1,
            True,
            True,
        ), command
        done = fairladder(command, orders, "--allow", "repeated-total")
        assert (done.returncode, "Error" in done.stderr) == (0, False), command
        assert "4 rows count although `state` says cancelled" in done.stderr + done.stdout
    with pytest.warns(fl.FairLadderWarning, match="8 of 8"):
        fl.open_orders(orders).customers()
    states = next(f for f in fl.open_orders(orders).check().findings if f.code == "statuses")
    assert (
        states.effect == "statuses in `state` count: ok: 12 rows, 174.00; Storniert: 4 rows, 42.00"
    )
    assert "state NOT IN ('Storniert')" in states.advice
    scheme = tmp_path / "scheme.toml"
    assert fairladder("start", orders, "--out", scheme).returncode == 0
    condition = next(line for line in scheme.read_text().splitlines() if line.startswith("# where"))
    scheme.write_text(scheme.read_text().replace(condition, condition[2:]))
    left = fl.open_orders(orders, scheme=fl.load_scheme(scheme))
    assert (left.balance.filtered_out, left.balance.used) == (4, 12)
    assert fairladder("score", orders, "--allow", "repeated").stderr.startswith(
        "Error: `repeated` is not a finding that can be allowed."
    )
    assert (
        fairladder("score", write(tmp_path / "few.csv", rows[:8])).returncode == 0
    )  # four orders may be chance


def test_discounts_in_percent_raise_a_question(tmp_path, fairladder):
    columns = "member,slip,sold,price,quantity,discount"
    rows = [(f"m{i}", i, "2026-01-05", 10, 1, ["", 1, 5, 10, "15%"][i % 5]) for i in range(20)]
    orders = write(tmp_path / "orders.csv", rows, columns)
    given = [
        f"--{r}-column={c}"
        for r, c in {"unit-price": "price", "quantity": "quantity", "discount": "discount"}.items()
    ]
    done = fairladder("customers", orders, *given, "--allow-set-aside")
    assert (done.returncode, "8 rows have a discount over 1 in `discount`" in done.stderr) == (
        1,
        True,
    )
    assert '`discount_as = "percent"`' in fairladder("customers", orders, *given).stderr
    right = fairladder("customers", orders, *given, "--discount-as", "percent")
    # m0, m1, m10, m11 and m12: 10.00 less nothing, 1 %, nothing, 1 %, 5 %
    assert [line.split(",")[9] for line in right.stdout.splitlines()[1:6]] == [
        "10.00",
        "9.90",
        "10.00",
        "9.90",
        "9.50",
    ]
    assert right.returncode == 0
    assert (
        "`discount` looks like a discount and is not used"
        in fairladder(
            "customers", write(tmp_path / "o.csv", rows, columns.replace("price", "amount"))
        ).stderr
    )


def test_members_with_other_id_format_are_an_error(tmp_path):
    orders = write(
        tmp_path / "orders.csv",
        [(f"m{i % 20}", i, "05.02.2026", "5.00", "", "") for i in range(60)],
    )
    members = write(
        tmp_path / "members.csv",
        [(f"M-{i}" if i < 17 else f"m{i}", "31.05.1980", "05.06.1990") for i in range(20)],
        "member,born,joined",
    )
    check = fl.open_orders(
        orders, customers=members, scheme={"orders": {"date_format": "day-first"}}
    ).check()
    (wrong,) = [f for f in check.findings if f.code == "unmatched-customers"]
    assert (wrong.level, wrong.count) == ("error", 17)
    assert (
        f"the orders write `m0`, `m1`, `m10`, and {members} writes `M-0`, `M-1`, `M-10`"
        in wrong.effect
    )
    write(
        members, [(f"m{i}", "31.05.1980", "05.06.1990") for i in range(8, 40)], "member,born,joined"
    )
    orders = fl.open_orders(
        orders, customers=members, scheme={"orders": {"date_format": "day-first"}}
    )
    assert [
        f.code for f in orders.check().findings if f.level == "error"
    ] == []  # 12 of 20 are on both sides
    # Dates of members are read by their own cells or, if these are ambiguous, in the format of the
    # orders.
    assert orders.customers()["born"].max() == pd.Timestamp("1980-05-31")
    assert orders.customers()["joined"].max() == pd.Timestamp("1990-06-05")


def test_test_and_staff_accounts_are_found():
    """By whole words of id or name, never by a part of one: a Ms Guest and a Testa are people."""
    odd = [
        "test",
        "Test Account",
        "000",
        "guest@shop.example",
        "Walk-in customer",
        "n/a",
        "STAFF-3",
        "unbekannt",
        "9999",
        "Gäste",
    ]
    people = [
        "0001",
        "Judith Guest",
        "Testa",
        "99",
        "C-77",
        "test.pilot@sky.example",
        "Anna Test",
        "Naomi",
        "i",
    ]
    frame = pd.DataFrame(
        {
            "customer": [*odd, *people, "K1"],
            "placed": "2026-01-05",
            "amount": 2.5,
            "name": [*[""] * 19, "Demo user"],
        }
    )
    found = {f.code: f for f in fl.open_orders(frame).check().findings}["odd-accounts"]
    assert (found.count, found.level) == (11, "warning")
    assert "they have 11 orders and 27.50 of spend" in found.effect
    assert set(found.examples) <= {*odd, "K1"}
    assert "odd-accounts" not in {f.code for f in fl.open_orders(frame[10:19]).check().findings}


def odd_shop(folder):
    """Write two overlapping exports and members with nearly every problem; return the options for
    all commands.
    """
    columns = "Customer,Order,Date,Amount,State,Entry,Flag"
    rows = [
        (f"C{i % 12:02}", f"o{i}", f"2026-0{i % 6 + 1}-1{i % 8}", f"{i}.50", "paid", "sale", "y")
        for i in range(1, 70)
    ]
    rows += [
        rows[3],
        ("C99", "o7", "2026-02-11", "3.50", "paid", "sale", "y"),
        ("c01", "n1", "2026-03-11", "2.50", "cancelled", "sale", "y"),
    ]
    rows += [
        ("test", "n2", "2026-03-12", "2.25", "on hold", "fee", "y"),
        ("7.02E+12", "n3", "2026-03-13", "2.75", "paid", "sale", "y"),
    ]
    rows += [
        ("C02", "n4", "2026-03-14", "about 900", "paid", "sale", "y"),
        ("C03", "n5", "45000", "1.25", "paid", "sale", "y"),
    ]
    rows += [
        ("C04", "n6", "2999-01-01", "1.25", "paid", "sale", "y"),
        ("C05", "n7", "2026-04-11", "1.25", "paid", "sale", ""),
    ]
    rows += [
        ("C06", "n8", "2026-06-29", "1.25", "paid", "sale", "y"),
        ("C06", "n8", "2026-07-02", "1.50", "paid", "sale", "y"),
    ]
    rows += [("C07", "n9", "2026-05-02", "999.50", "paid", "sale", "y")]
    write(folder / "a.csv", rows, columns)
    write(folder / "b.csv", [rows[10], (*rows[11][:3], "55.25", *rows[11][4:])], columns)
    write(folder / "members.csv", [(f"C{i:02}", "Quillmoor") for i in range(10)], "Customer,town")
    return ["--customers", folder / "members.csv", "--where", "Flag <> 'x'", "--as-of", "2026-06-30", "--status-column", "State", "--customer-column",
            "Customer", "--order-column", "Order", "--placed-column", "Date", "--amount-column", "Amount"]  # fmt: skip


ODD = {
    "unknown-condition", "cancelled-orders", "straddling-orders", "duplicate-rows", "repeats-across-files", "changed-orders", "shared-order", "after-today",
    "serial-dates", "unread-amounts", "statuses", "kinds-of-rows", "unknown-customers", "spoiled-ids", "id-near-twins", "odd-accounts", "short-history",
    "one-customer-dominates",
}  # fmt: skip


@pytest.mark.parametrize(
    "words",
    [("check",), ("customers",), ("score",), ("top",), ("orders",), ("growth",), ("retention",), ("breakdown", "--rows", "State"), ("value",),
     ("campaign", "--when", "orders > 1", "--name", "x"), ("compare", "--then", "2026-03-31"), ("explain", "C01"), ("report",)],
    ids=lambda words: words[0],
)  # fmt: skip
def test_every_command_shows_every_finding(tmp_path, fairladder, words):
    given = odd_shop(tmp_path)
    command, *more = words
    out = tmp_path / ("out.html" if command == "report" else "out.json")
    pattern = tmp_path / "[ab].csv"
    done = fairladder(
        command,
        pattern,
        *more,
        *given,
        "--fail-on",
        "warning",
        "--facts",
        tmp_path / "facts.json",
        "--all-notes",
        "--out",
        out,
    )
    facts = json.loads((tmp_path / "facts.json").read_text())
    found = {f["code"]: f for f in facts["findings"] if f["level"] != "note"}
    assert set(found) == ODD
    assert done.returncode == 1
    output = {
        Finding(**{**f, "examples": ()}).sentence: float(f["money"] or 0) for f in found.values()
    }
    assert set(output) <= set(done.stderr.splitlines())
    few = fairladder(command, pattern, *more, *given, "--out", "-" if command != "report" else out)
    shown = [output[line] for line in few.stderr.splitlines() if line in output]
    assert (few.returncode, shown) == (0, sorted(output.values(), reverse=True)[:3])
    if command in ("check", "report"):
        text = out.read_text()
        assert all(code in text for code in ODD)


@pytest.mark.parametrize(
    ("code", "level", "lines", "settings"),
    [
        ("no-usable-row", "error", calm(), {"orders": {"where": "customer = 'x'"}}),
        ("mostly-set-aside", "warning", [(c if i % 3 else "", *rest) for i, (c, *rest) in enumerate(calm())], {}),
        ("mixed-currencies", "error", [(*line, ("EUR", "USD")[i % 2]) for i, line in enumerate(calm())], {}),
        ("discount-unit", "error", [(*line[:3], 10, 2, (0, 5, 10)[i % 3]) for i, line in enumerate(calm())], {}),
    ],
)  # fmt: skip
def test_mapping_errors_stop_every_command(code, level, lines, settings):
    columns = (
        "customer",
        "order",
        "placed",
        *{6: ("unit_price", "quantity", "discount"), 5: ("amount", "currency"), 4: ("amount",)}[
            len(lines[0])
        ],
    )
    assert found(lines, columns, **settings)[code].level == level


def test_every_finding_has_a_test():
    """All warnings and errors of the registry occur in the tests of findings and of competing
    readings.
    """
    texts = "".join(
        (Path(__file__).parent / name).read_text()
        for name in ("test_findings.py", "test_competing_readings.py")
    )
    assert [
        code
        for code, known in KNOWN.items()
        if known.levels != ("note",) and f'"{code}"' not in texts
    ] == []


@pytest.mark.parametrize(
    ("code", "given", "one"),
    [
        ("zero-orders", {}, "1 order of 0 does not count as purchases."),
        ("duplicate-rows", {"money": "2.00"}, "1 row repeats another of the same file in every cell and adds 2.00 to spend."),
        ("short-history", {"least": 180}, "1 day of history; fewer than 180 are too few to judge lifetimes."),
        ("statuses", {"column": "state", "list": "open", "condition": "x"}, "1 status in `state` counts: open"),
    ],
)  # fmt: skip
def test_one_of_a_kind_is_written_in_the_singular(code, given, one):
    assert one in registered(code, 1, **given).sentence
    assert f"2 {KNOWN[code].effect.split(' ')[0]} " in registered(code, 2, **given).sentence

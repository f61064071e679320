"""Measure exports whose cells can be read in two ways: read correctly, asked, warned with the right
alternative, or silently wrong?

python benchmarks/competing.py [--show]
"""

import argparse
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from pathlib import Path
from typing import Any

from exports import Export, Row, day, lines, number, of, truth, write

import fairladder as fl

BASE: dict[str, Callable[[Row], Any]] = {
    "Customer": of("customer"), "Order": of("order"), "Date": of("at", day("%Y-%m-%d")), "Amount": of("amount"),
}  # fmt: skip


@dataclass(frozen=True)
class Competing:
    """An export, and words that a question or a warning must contain if the file alone is ambiguous
    (empty if it is not).
    """

    export: Export
    words: str = ""


def parity(row: Row, *texts: Any) -> Any:
    """Return one of several texts by the order's number."""
    return texts[int(row["order"]) % len(texts)]


def digits(zero: str) -> Callable[[Any], str]:
    """Write numbers in the digits of a script."""
    return lambda x: "".join(chr(ord(zero) + int(c)) if c.isdigit() else c for c in str(x))


def also(
    columns: dict[str, Callable[[Row], Any]],
    change: Callable[[Row], Row],
    which: Callable[[Row], bool],
) -> Callable[[list[Row]], list[list[Any]]]:
    """Add rows to a file, made from some of its rows."""
    return lambda rows: [
        [made(change(row)) for made in columns.values()] for row in rows if which(row)
    ]


def export(
    name: str,
    words: str = "",
    without: str = "",
    more: dict[str, Callable[[Row], Any]] | None = None,
    **settings: Any,
) -> Competing:
    """Make an export with the usual columns except ``without``, and with ``more`` in addition."""
    columns = {n: made for n, made in BASE.items() if n not in without.split()} | (more or {})
    return Competing(Export(name, columns, **settings), words)


def listed(row: Row) -> Decimal:
    """Return the price before a discount of a fifth."""
    return Decimal(row["price"]) * Decimal("1.25")


KIND = {**BASE, "Entry": lambda r: r.get("kind", "sale")}
NO_HEADER = {
    "C0": of("customer"),
    "O0": of("order"),
    "2024-01-01": of("at", day("%Y-%m-%d")),
    "100.20": of("amount"),
}
CASES = [
    export("words of currencies", "several currencies (EUR, USD)", "Amount", {"Amount": lambda r: f"{r['amount']} {parity(r, 'EUR', 'USD')}"}),
    export("signs of currencies", "several currencies (EUR, GBP)", "Amount", {"Paid": lambda r: f"{parity(r, '€', '£')}{r['amount']}"}),
    export("one sign, not always", "", "Amount", {"Amount": lambda r: f"{parity(r, '€', '')}{r['amount']}"}),
    export("home currency column", "--amount-column", "Amount", {"Amount": lambda r: f"{r['amount']} {parity(r, 'EUR', 'USD')}", "Amount in EUR": of("amount")}),
    export("quantity and each", "", "Amount", {"Qty": of("pieces"), "Each": of("price")}),
    export("pieces and price", "--quantity-column", "Amount", {"Pcs.": of("pieces"), "Preço unit.": of("price")}),
    export("two words not known", "--quantity-column", "Amount", {"Kpldt": of("pieces"), "Zahlung je": of("price")}),
    export("czech price", "--quantity-column", "Amount", {"Počet": of("pieces"), "Cena": of("price")}),
    export("buyer and e-mail", "could be the customer's id", "Customer", {"Buyer": of("name"), "E-mail": of("email")}),
    export("name and phone", "could be the customer's id", "Customer", {"Customer": of("name"), "Phone": lambda r: f"+44 1632 96{r['customer']}"}),
    export("name and number", "", "Customer", {"Customer name": of("name"), "Customer no": of("customer")}),
    Competing(Export("payments below sales", KIND, below=also(KIND, lambda r: {**r, "kind": "payment"}, lambda r: True)), "--where"),
    Competing(Export("fees among sales", KIND, below=also(KIND, lambda r: {**r, "kind": "fee", "amount": Decimal("0.30")}, lambda r: r["line"] == 1)), "--where"),
    Competing(Export("shipping rows", KIND, below=also(KIND, lambda r: {**r, "kind": "Shipping", "amount": Decimal("4.90")}, lambda r: r["line"] == 1)), "--where"),
    Competing(Export("taxes in german", KIND, below=also(KIND, lambda r: {**r, "kind": "Steuer", "amount": Decimal("2.90")}, lambda r: r["line"] == 1)), "--where"),
    export("test orders", "--where", more={"is_test": lambda r: str(int(r["order"]) % 7 == 0).lower()}, keep=lambda r: int(r["order"]) % 7 != 0),
    export("deleted orders", "--where", more={"Deleted": lambda r: parity(r, "no", "no", "yes")}, keep=lambda r: int(r["order"]) % 3 != 2),
    export("refunds written positive", "--where", more={"Type": lambda r: parity(r, "sale", "sale", "refund")}, keep=lambda r: int(r["order"]) % 3 != 2),
    *(export(f"void in {name}", "--where", more={"Status": lambda r, a=paid, b=void: parity(r, a, a, b)}, keep=lambda r: int(r["order"]) % 3 != 2)
      for name, paid, void in (("Hungarian", "teljesítve", "törölve"), ("Vietnamese", "hoàn thành", "đã hủy"), ("Norwegian", "betalt", "kansellert"),
                               ("English", "completed", "no-show"), ("Romanian", "livrat", "anulat"), ("Indonesian", "selesai", "dibatalkan"))),
    export("a status of its own", "statuses in", more={"Status": lambda r: parity(r, "ok", "ok", "parked")}, keep=lambda r: int(r["order"]) % 3 != 2),
    export("a status with a space", "--where", more={"Payment state": lambda r: parity(r, "paid", "rejected")}, keep=lambda r: int(r["order"]) % 2 == 0),
    export("points for thousands", "can be a decimal mark or mark thousands", "Amount", {"Amount": lambda r: number("de", "", 0)(int(r["pieces"]) * 950)}),
    export("lakhs", "", "Amount", {"Amount": lambda r: f"₹{r['amount']:,.2f}"}),
    export("francs", "", "Amount", {"Betrag": lambda r: f"CHF {r['amount']}"}),
    export("persian digits", "", "Amount", {"Amount": of("amount", digits("۰"))}),
    export("thai digits", "", "Amount", {"Amount": of("amount", digits("๐"))}),
    export("plus signs", "", "Amount", {"Amount": lambda r: f"+{r['amount']}"}),
    export("right to left marks", "", "Amount", {"Amount": lambda r: f"\u200f{r['amount']} ₪"}),
    export("formulas around ids", "", "Customer", {"Customer": lambda r: f'"=""{r["customer"]}"""'}),
    export("ids as floats", "damaged on the way", "Customer", {"Customer": lambda r: f"{int(r['customer']) * 10**9:.1E}"}),
    export("zeros lost in half", "leading zeros", "Customer", {"Customer": lambda r: f"{parity(r, '00', '')}{r['customer']}"}),
    export("null customers", "--where", "Customer", {"Customer": lambda r: "NULL" if int(r["order"]) % 9 == 0 else r["customer"]},
           keep=lambda r: int(r["order"]) % 9 != 0),
    export("percents of 0 and 1", "percents", "Amount", {"Price": of("price"), "Quantity": of("pieces"), "discount_pct": lambda r: parity(r, 0, 1)}),
    export("discounts of 20 %", "", "Amount", {"Price": listed, "Quantity": of("pieces"), "Discount %": lambda r: 20}),
    export("rate off", "", "Amount", {"Price": listed, "Quantity": of("pieces"), "Rate off": lambda r: 0.2}),
    Competing(Export("no header", NO_HEADER), "--header-row 0"),
    export("payout or price", "could be the amount", "Amount", {"Item price": of("amount"), "Payout": lambda r: f"{r['amount'] * Decimal('0.9'):.2f}"}),
    export("net and gross", "could be the amount", "Amount", {"Pledged": of("amount"), "Received": lambda r: f"{r['amount'] * Decimal('0.95'):.2f}"}),
    export("cents", "", "Amount", {"amount_cents": lambda r: int(r["amount"] * 100)}),
    Competing(Export("rows sent twice", BASE, below=also(BASE, lambda r: r, lambda r: int(r["order"]) % 50 == 0)), "--drop repeats"),
    Competing(Export("a footer", BASE, below=lambda rows: [["Printed by the till"]]), "looks like a remark"),
    Competing(Export("a cut line", BASE, below=lambda rows: [["1000", "99999", "2025"]]), "may be cut off"),
    export("Buddhist years", "counted from the Buddha", "Date", {"Date": of("at", lambda d: f"{d.year + 543}-{d:%m-%d}")}),
    export("dates in three columns", "hold parts of a day", "Date", {"Year": of("at", day("%Y")), "Month": of("at", day("%m")), "Day": of("at", day("%d"))}),
]  # fmt: skip


def judged(case: Competing, seed: int, folder: Path) -> tuple[str, str]:
    """Return ``right``, ``asked``, ``warned``, ``another question`` or ``silently wrong``, and the
    output.
    """
    rows = lines(seed)
    path = write(case.export, rows, folder)
    by = "email" if "E-mail" in case.export.columns else "customer"
    try:
        orders = fl.open_orders(path)
        scored = orders.score()
    except fl.FairLadderError as error:
        return ("asked" if case.words and case.words in str(error) else "another question"), str(
            error
        )
    wanted = truth([row for row in rows if case.export.keep(row)], by).sort_values(
        "customer", ignore_index=True
    )
    got = scored[scored["orders"] > 0].reset_index(drop=True)
    names = {"customer": "customer", "orders": "orders"}
    same = len(got) == len(wanted) and all(
        list(got[a]) == list(wanted[b]) for a, b in names.items()
    )
    if (
        same
        and ((got["spend"] - wanted["spend"]).abs() < 0.005).all()
        and [d.date() for d in got["last_order"]] == list(wanted["last"])
    ):
        return "right", ""
    sentences = [f.sentence for f in orders.findings if f.level != "note"]
    warned = case.words and any(case.words in sentence for sentence in sentences)
    return ("warned" if warned else "silently wrong"), f"roles {orders.roles}; {sentences}"


def verdicts() -> dict[str, tuple[str, str]]:
    """Return each export with its verdict and the output."""
    with tempfile.TemporaryDirectory() as folder:
        return {
            case.export.name: judged(case, 300 + place, Path(folder))
            for place, case in enumerate(CASES)
        }


def main() -> None:
    options = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    options.add_argument(
        "--show", action="store_true", help="print the output of each export that is not right"
    )
    given = options.parse_args()
    found = verdicts()
    for name, (verdict, shown) in found.items():
        if given.show and verdict != "right":
            print(f"{name}: {verdict}: {shown[:300]}")
    counts = [verdict for verdict, _ in found.values()]
    print(
        len(counts),
        {
            name: counts.count(name)
            for name in ("right", "asked", "warned", "another question", "silently wrong")
        },
    )


if __name__ == "__main__":
    main()

"""Measure how many of forty invented exports, in many languages and styles, are read correctly from
the file alone.

python benchmarks/exports.py [seen|kept] [--show] # the half that was seen during development, or
the other half
"""

import argparse
import datetime as dt
import json
import random
import tempfile
import zipfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

import pandas as pd
from babel.dates import format_date
from babel.numbers import format_decimal

import fairladder as fl

Row = dict[str, Any]


@dataclass(frozen=True)
class Export:
    """The format of one program's orders: headings in column order, and how each cell is made from
    a row.
    """

    name: str
    columns: dict[str, Callable[[Row], Any]]
    ending: str = "csv"
    separator: str = ","
    encoding: str = "utf-8"
    above: tuple[str, ...] = ()
    below: Callable[[list[Row]], list[list[Any]]] = lambda rows: []
    keep: Callable[[Row], bool] = lambda row: True
    """Which rows count in the truth; the file contains all of them."""
    options: tuple[tuple[str, str], ...] = field(default=())


def lines(seed: int) -> list[Row]:
    """Return some 900 order lines of 140 customers over two years."""
    dice = random.Random(seed)
    people = [(f"{1000 + 7 * i}", f"{dice.choice(FIRST)} {dice.choice(LAST)}") for i in range(140)]
    rows: list[Row] = []
    for number in range(420):
        who, name = people[min(int(dice.expovariate(1 / 40)), 139)]
        day = dt.datetime(2024, 1, 2) + dt.timedelta(
            days=dice.randrange(720), seconds=dice.randrange(28800, 72000)
        )
        channel, city = dice.choice(("web", "market", "post")), dice.choice(CITIES)
        for line in range(dice.choice((1, 1, 2, 3))):
            pieces, price = dice.choice((1, 1, 1, 2, 3)), Decimal(dice.randrange(300, 9000)) / 100
            rows.append({
                "customer": who, "name": name, "email": f"{name.split()[0].lower()}.{who}@yarn.example", "order": f"{50000 + number}",
                "line": line + 1, "at": day, "pieces": pieces, "price": price, "amount": pieces * price, "channel": channel, "city": city,
                "status": "paid", "item": dice.choice(ITEMS),
            })  # fmt: skip
    return rows


FIRST = "Ada Bea Cilla Dora Edda Frida Greta Hilde Ines Jonna Karla Lotte Mira Nora Oda Petra Rosa Svea Tilda Ulla".split()
LAST = "Birk Dahl Eik Falk Gran Holm Lind Moor Nord Quist Rask Skog Torn Vik Wold".split()
CITIES = "Northby Eastham Southwick Westley".split()
ITEMS = ("Merino skein", "Bamboo needles", "Shawl kit", "Dye day")


def number(locale: str, sign: str = "", digits: int = 2) -> Callable[[Any], str]:
    """Write amounts as in a locale."""
    pattern = "#,##0." + "0" * digits
    return lambda x: format_decimal(x, format=pattern, locale=locale) + sign


def day(pattern: str) -> Callable[[dt.datetime], str]:
    return lambda d: d.strftime(pattern)


def named(pattern: str, locale: str) -> Callable[[dt.datetime], str]:
    return lambda d: format_date(d, format=pattern, locale=locale)


def of(key: str, how: Callable[[Any], Any] = str) -> Callable[[Row], Any]:
    return lambda row: how(row[key])


def total_of_order(how: Callable[[Any], Any]) -> Callable[[Row], Any]:
    return lambda row: how(row["total"])


EXPORTS: list[Export] = [
    Export("guest bookings", {"Gast-Nr": of("customer"), "Buchung": of("order"), "Gebucht am": of("at", day("%d.%m.%Y")),
                              "Betrag (EUR)": of("amount", number("de")), "Status": of("status", lambda s: "bezahlt")}, separator=";"),
    Export("web shop", {"Order ID": of("order"), "Email": of("email"), "Paid at": of("at", day("%Y-%m-%d %H:%M:%S +0000")),
                        "Lineitem name": of("item"), "Lineitem quantity": of("pieces"), "Lineitem price": of("price"), "Shipping": lambda r: "4.90"}),
    Export("german months", {"Kundennummer": of("customer"), "Belegnummer": of("order"), "Belegdatum": of("at", named("d. MMMM yyyy", "de")),
                             "Umsatz netto": of("amount", number("de"))}, separator=";", encoding="cp1252"),
    Export("french months", {"N° client": of("customer"), "N° commande": of("order"), "Date de commande": of("at", named("d MMM yyyy", "fr")),
                             "Montant": of("amount", number("fr", " €"))}, separator=";"),
    Export("two-digit years", {"Customer No": of("customer"), "Invoice": of("order"), "Invoice date": of("at", day("%d/%m/%y")),
                               "Net": of("amount", number("en"))}),
    Export("serial days", {"Member": of("customer"), "Receipt": of("order"), "Date": of("at", lambda d: str((d - dt.datetime(1899, 12, 30)).days)),
                           "Total": of("amount")}),
    Export("totals at the end", {"Cliente": of("customer"), "Ordine": of("order"), "Data": of("at", day("%d/%m/%Y")), "Importo": of("amount", number("it"))},
           separator=";", below=lambda rows: [["Totale", "", "", number("it")(sum(r["amount"] for r in rows))]]),
    Export("swedish kronor", {"Kundnr": of("customer"), "Ordernr": of("order"), "Orderdatum": of("at", day("%Y-%m-%d")),
                              "Belopp": of("amount", number("sv", " kr"))}, separator=";"),
    Export("title rows", {"Customer": of("customer"), "Order": of("order"), "Ordered": of("at", day("%m/%d/%Y")), "Shipped": of("at", day("%m/%d/%Y")),
                          "Amount": of("amount", number("en"))}, above=("Sales report,,,,", "Printed 3 January 2026,,,,", ",,,,")),
    Export("epoch seconds", {"user_id": of("customer"), "transaction_id": of("order"), "created": of("at", lambda d: str(int(d.replace(tzinfo=dt.UTC).timestamp()))),
                             "revenue": of("amount")}, separator="\t"),
    Export("order totals on lines", {"customer_id": of("customer"), "order_id": of("order"), "order_date": of("at", day("%Y-%m-%d")), "sku": of("item"),
                                     "order_total": total_of_order(str)}),
    Export("states", {"Client": of("customer"), "Order number": of("order"), "Date": of("at", day("%Y-%m-%d")), "Amount": of("amount"),
                      "Status": of("status")}, keep=lambda r: r["status"] != "cancelled"),
    Export("cover sheet", {"Kunde": of("customer"), "Rechnung": of("order"), "Datum": of("at", lambda d: d), "Betrag": of("amount", float)}, ending="xlsx"),
    Export("loyalty cards", {"Card": of("customer"), "Ticket": of("order"), "Day": of("at", day("%d.%m.%Y %H:%M")), "Sum": of("amount", number("de"))},
           separator=";"),
    Export("spanish", {"Código cliente": of("customer"), "Nombre": of("name"), "Pedido": of("order"), "Fecha": of("at", named("dd-MMM-yyyy", "es")),
                       "Importe": of("amount", number("es", " €"))}, separator=";", encoding="cp1252"),
    Export("polish", {"Klient": of("customer"), "Zamówienie": of("order"), "Data zamówienia": of("at", named("d MMMM yyyy", "pl")),
                      "Kwota": of("amount", number("pl", " zł"))}, separator=";", encoding="cp1250"),
    Export("card totals", {"Account": of("customer"), "Reference": of("order"), "Posted": of("at", day("%d %b %Y")), "Description": of("item"),
                           "Debit": of("amount", number("en")), "Credit": lambda r: ""}),
    Export("nested records", {"id": of("order"), "customer": lambda r: {"id": r["customer"], "name": r["name"]}, "created_at": of("at", day("%Y-%m-%dT%H:%M:%SZ")),
                              "total": of("amount", str)}, ending="json"),
    Export("packed", {"cust": of("customer"), "inv": of("order"), "dt": of("at", day("%Y%m%d")), "amt": of("amount")}, ending="zip"),
    Export("weekdays first", {"Client": of("customer"), "Ref": of("order"), "When": of("at", named("EEE, d MMM yyyy", "en")), "Paid": of("amount", lambda x: f"£{x}")}),
    Export("dutch", {"Klantnummer": of("customer"), "Bestelnummer": of("order"), "Besteldatum": of("at", named("d MMMM yyyy", "nl")),
                     "Bedrag": of("amount", lambda x: "€ " + number("nl")(x))}, separator=";"),
    Export("portuguese", {"Cliente": of("customer"), "Encomenda": of("order"), "Data": of("at", day("%d-%m-%Y")), "Valor": of("amount", lambda x: "R$ " + number("pt_BR")(x))},
           separator=";"),
    Export("czech", {"Zákazník": of("customer"), "Objednávka": of("order"), "Datum": of("at", lambda d: f"{d.day}. {d.month}. {d.year}"),
                     "Částka": of("amount", number("cs", " Kč"))}, separator=";", encoding="cp1250"),
    Export("finnish", {"Asiakas": of("customer"), "Tilaus": of("order"), "Päivämäärä": of("at", lambda d: f"{d.day}.{d.month}.{d.year}"), "Summa": of("amount", number("fi"))},
           separator=";"),
    Export("russian", {"Клиент": of("customer"), "Заказ": of("order"), "Дата": of("at", day("%d.%m.%Y")), "Сумма": of("amount", number("ru", " руб."))},
           separator=";", encoding="cp1251"),
    Export("japanese", {"顧客番号": of("customer"), "注文番号": of("order"), "注文日": of("at", lambda d: f"{d.year}年{d.month}月{d.day}日"),
                        "金額": of("amount", lambda x: f"¥{x}")}),
    Export("turkish", {"Müşteri": of("customer"), "Sipariş": of("order"), "Tarih": of("at", named("d MMMM yyyy", "tr")), "Tutar": of("amount", number("tr", " TL"))},
           separator=";"),
    Export("danish till", {"Medlem": of("customer"), "Bon": of("order"), "Dato": of("at", day("%d-%m-%Y %H:%M")), "Antal": of("pieces"), "Pris": of("price", number("da")),
                           "Beløb": of("amount", number("da"))}, separator=";", encoding="latin-1"),
    Export("patrons", {"Patron": of("customer"), "Booking ref": of("order"), "Booked on": of("at", day("%d %B %Y")), "Net": of("amount", lambda x: f"{x * Decimal('0.8'):.2f}"),
                       "Gross": of("amount"), "Postage": lambda r: "3.50"}),
    Export("only e-mail", {"email": of("email"), "ordered_at": of("at", day("%Y-%m-%d %H:%M:%S")), "price": of("amount")}),
    Export("epoch milliseconds", {"accountId": of("customer"), "orderId": of("order"), "placedAt": of("at", lambda d: str(int(d.replace(tzinfo=dt.UTC).timestamp() * 1000))),
                                  "lineTotal": of("amount", str)}, ending="jsonl"),
    Export("unit row", {"Customer": of("customer"), "Order": of("order"), "Date": of("at", day("%Y-%m-%d")), "Amount": of("amount")}, above=(),
           options=(("unit row", "id,id,yyyy-mm-dd,EUR"),)),
    Export("subscriber", {"Subscriber": of("customer"), "Payment": of("order"), "Charged": of("at", day("%b %d, %Y")), "Fee": lambda r: "0.30", "Total": of("amount", lambda x: f"${x}")}),
    Export("swiss", {"Kunden-Nr.": of("customer"), "Auftrag": of("order"), "Auftragsdatum": of("at", day("%d.%m.%Y")), "Betrag CHF": of("amount", number("de_CH"))}, separator=";"),
    Export("names next to ids", {"Name": of("name"), "Buyer ID": of("customer"), "Sale ID": of("order"), "Sale date": of("at", day("%d/%m/%Y")), "Sale amount": of("amount")}),
    Export("prices and pieces", {"Kunde": of("customer"), "Bestellung": of("order"), "Datum": of("at", day("%d.%m.%Y")), "Menge": of("pieces"), "Einzelpreis": of("price", number("de"))},
           separator=";"),
    Export("hungarian", {"Ügyfél": of("customer"), "Rendelés": of("order"), "Dátum": of("at", lambda d: f"{d.year}. {d.month:02}. {d.day:02}."), "Összeg": of("amount", number("hu", " Ft"))},
           separator=";"),
    Export("sheet of many", {"Cliente": of("customer"), "Pedido": of("order"), "Fecha": of("at", lambda d: d), "Total": of("amount", float)}, ending="xlsx",
           above=("Informe de ventas",)),
    Export("subtotals", {"Customer": of("customer"), "Invoice": of("order"), "Date": of("at", day("%d.%m.%Y")), "Amount": of("amount", number("de"))}, separator=";",
           below=lambda rows: [["Zwischensumme", "", "", number("de")(sum(r["amount"] for r in rows[:100]))], ["Gesamtsumme", "", "", number("de")(sum(r["amount"] for r in rows))]]),
    Export("norwegian status", {"Kundenr": of("customer"), "Ordrenr": of("order"), "Ordredato": of("at", day("%d.%m.%Y")), "Beløp": of("amount", number("nb")),
                                "Valuta": lambda r: "NOK"}, separator=";"),
]  # fmt: skip
HALF = 20


def write(export: Export, rows: list[Row], folder: Path) -> Path:
    """Write the export to a file."""
    heads = list(export.columns)
    cells = [[made(row) for made in export.columns.values()] for row in rows]
    cells += export.below(rows)
    path = folder / f"{export.name.replace(' ', '-')}.{export.ending}"
    if export.ending in ("json", "jsonl"):
        records = [dict(zip(heads, row, strict=True)) for row in cells]
        path.write_text(
            json.dumps(records) if export.ending == "json" else "\n".join(map(json.dumps, records)),
            "utf-8",
        )
    elif export.ending == "xlsx":
        with pd.ExcelWriter(path, engine="xlsxwriter") as book:
            pd.DataFrame([["Yarn studio"], ["Orders of two years"]]).to_excel(
                book, sheet_name="Cover", header=False, index=False
            )
            pd.DataFrame(cells, columns=heads).to_excel(
                book, sheet_name="Orders", index=False, startrow=len(export.above) * 2
            )
            for row, text in enumerate(export.above):
                book.sheets["Orders"].write(row, 0, text)
    else:
        above = [*export.above, export.separator.join(heads), *(text for _, text in export.options)]
        body = [
            export.separator.join(f'"{c}"' if export.separator in str(c) else str(c) for c in row)
            for row in cells
        ]
        text = "\n".join([*above, *body]) + "\n"
        if export.ending == "zip":
            with zipfile.ZipFile(path, "w") as packed:
                packed.writestr("orders.csv", text)
        else:
            path.write_bytes(text.encode(export.encoding))
    return path


def truth(rows: list[Row], by: str) -> pd.DataFrame:
    """Compute customers, their orders, spend and last day in plain Python."""
    found: dict[str, dict[str, Any]] = {}
    for row in rows:
        one = found.setdefault(row[by], {"orders": set(), "spend": Decimal(0), "last": dt.date.min})
        one["orders"].add(row["order"])
        one["spend"] += row["amount"]
        one["last"] = max(one["last"], row["at"].date())
    lines = [
        (who, len(one["orders"]), float(one["spend"]), one["last"])
        for who, one in sorted(found.items())
    ]
    return pd.DataFrame(lines, columns=["customer", "orders", "spend", "last"])


def judged(export: Export, seed: int, folder: Path) -> tuple[str, str]:
    """Return ``right``, ``refused`` or ``wrong``, and the output."""
    rows = lines(seed)
    if any(head.lower() == "status" for head in export.columns) and export.name == "states":
        rows = [
            {**row, "status": "cancelled" if int(row["order"]) % 9 == 0 else "paid"} for row in rows
        ]
    if "order" not in [
        cell.cell_contents for made in export.columns.values() for cell in made.__closure__ or ()
    ]:  # every row is one
        rows = [{**row, "order": f"{row['order']}-{row['line']}"} for row in rows]
    totals: dict[str, Decimal] = {}
    for row in rows:
        totals[row["order"]] = totals.get(row["order"], Decimal(0)) + row["amount"]
    rows = [{**row, "total": totals[row["order"]]} for row in rows]
    path = write(export, rows, folder)
    by = "email" if any(head.lower() == "email" for head in export.columns) else "customer"
    wanted = truth([row for row in rows if export.keep(row)], by)
    try:
        orders = fl.open_orders(path)
        scored = orders.score()
    except fl.FairLadderError as error:
        return "refused", str(error)
    got = scored[scored["orders"] > 0][["customer", "orders", "spend", "last_order"]].reset_index(
        drop=True
    )
    same = len(got) == len(wanted) and all(
        list(got[a]) == list(wanted[b]) for a, b in (("customer", "customer"), ("orders", "orders"))
    )
    if (
        same
        and ((got["spend"] - wanted["spend"]).abs() < 0.005).all()
        and list(got["last_order"].dt.date) == list(wanted["last"])
    ):
        return "right", ""
    shown = [f.code for f in orders.findings]
    output = f"roles {orders.roles}; {orders.balance.used} of {orders.balance.rows_read} used; findings {shown}"
    return "warned" if any(f.level != "note" for f in orders.findings) else "wrong", output


def trials(half: str) -> Iterator[tuple[Export, str, str]]:
    """Return each export of a half with its verdict."""
    chosen = EXPORTS[:HALF] if half == "seen" else EXPORTS[HALF:]
    with tempfile.TemporaryDirectory() as folder:
        for place, export in enumerate(chosen):
            yield export, *judged(export, place + (half == "kept") * 100, Path(folder))


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("half", choices=("seen", "kept"))
    options.add_argument(
        "--show", action="store_true", help="print the output of each that is not right"
    )
    given = options.parse_args()
    verdicts = []
    for export, verdict, shown in trials(given.half):
        verdicts.append(verdict)
        if given.show and verdict != "right":
            print(f"{export.name}: {verdict}: {shown[:330]}")
    print({name: verdicts.count(name) for name in ("right", "refused", "warned", "wrong")})


if __name__ == "__main__":
    main()

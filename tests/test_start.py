"""Test `start` and guessing: correct on exports from many tools and languages, with a question if
two columns are equally good.
"""

import tomllib

import pandas as pd
import pytest

import fairladder as fl

DAYS = pd.date_range("2025-01-01", periods=60, freq="5D")
N = len(DAYS)
PEOPLE = [f"{i % 23:04d}" for i in range(N)]
SLIPS = [f"S{i // 2:05d}" for i in range(N)]
MONEY = [f"{10 + i % 9}.{i % 100:02d}" for i in range(N)]
PIECES = [str(1 + i % 4) for i in range(N)]
STATES = ["open" if i % 9 else "void" for i in range(N)]
ISO, EURO = DAYS.strftime("%Y-%m-%d"), DAYS.strftime("%d.%m.%Y")
COMMA = [m.replace(".", ",") for m in MONEY]

EXPORTS = {
    "english": ({"customer_id": PEOPLE, "customer_name": PEOPLE, "order_id": SLIPS, "order_date": ISO, "shipping_date": ISO, "total": MONEY,
                 "status": STATES}, {"customer": "customer_id", "order": "order_id", "placed": "order_date", "amount": "total", "status": "status"}),
    "camel": ({"AccountNumber": PEOPLE, "InvoiceNo": SLIPS, "InvoiceDate": ISO, "Quantity": PIECES, "UnitPrice": MONEY, "Country": STATES},
              {"customer": "AccountNumber", "order": "InvoiceNo", "placed": "InvoiceDate", "unit_price": "UnitPrice", "quantity": "Quantity"}),
    "german": ({"Kundennummer": PEOPLE, "Bestellnummer": SLIPS, "Bestelldatum": EURO, "Betrag": COMMA, "Bestellstatus": STATES},
               {"customer": "Kundennummer", "order": "Bestellnummer", "placed": "Bestelldatum", "amount": "Betrag"}),
    "french": ({"N° client": PEOPLE, "Commande": SLIPS, "Date": EURO, "Montant": COMMA, "Nom": PEOPLE},
               {"customer": "N° client", "order": "Commande", "placed": "Date", "amount": "Montant", "name": "Nom"}),
    "spanish": ({"cliente": PEOPLE, "pedido": SLIPS, "fecha": ISO, "importe": MONEY, "canal": STATES},
                {"customer": "cliente", "order": "pedido", "placed": "fecha", "amount": "importe", "channel": "canal"}),
    "italian": ({"Codice cliente": PEOPLE, "Numero ordine": SLIPS, "Data ordine": EURO, "Importo": COMMA},
                {"customer": "Codice cliente", "order": "Numero ordine", "placed": "Data ordine", "amount": "Importo"}),
    "dutch": ({"klantnummer": PEOPLE, "bestelling": SLIPS, "datum": EURO, "bedrag": COMMA},
              {"customer": "klantnummer", "order": "bestelling", "placed": "datum", "amount": "bedrag"}),
    "portuguese": ({"cliente_id": PEOPLE, "encomenda": SLIPS, "data": ISO, "valor": MONEY, "desconto": PIECES},
                   {"customer": "cliente_id", "order": "encomenda", "placed": "data", "amount": "valor"}),
    "swedish": ({"Kundnr": PEOPLE, "Ordernr": SLIPS, "Datum": ISO, "Belopp": MONEY},
                {"customer": "Kundnr", "order": "Ordernr", "placed": "Datum", "amount": "Belopp"}),
    "polish": ({"Klient": PEOPLE, "Zamówienie": SLIPS, "Data": ISO, "Kwota": MONEY},
               {"customer": "Klient", "order": "Zamówienie", "placed": "Data", "amount": "Kwota"}),
    "till": ({"member": PEOPLE, "receipt": SLIPS, "sold_at": ISO, "qty": PIECES, "price": MONEY, "discount": ["" for _ in range(N)], "store": STATES},
             {"customer": "member", "order": "receipt", "placed": "sold_at", "unit_price": "price", "quantity": "qty", "discount": "discount"}),
    "bare": ({"buyer": PEOPLE, "when": ISO, "paid": MONEY}, {"customer": "buyer", "placed": "when", "amount": "paid"}),
}  # fmt: skip


@pytest.mark.parametrize("export", EXPORTS)
def test_start_guesses_right_and_its_scheme_works(tmp_path, fairladder, export):
    columns, wanted = EXPORTS[export]
    orders, scheme = tmp_path / "orders.csv", tmp_path / "scheme.toml"
    pd.DataFrame(columns).to_csv(orders, index=False, sep=";")
    done = fairladder("start", orders, "--out", scheme)
    assert done.returncode == 0, done.stderr
    roles = tomllib.loads(scheme.read_text())["orders"]
    assert {role: roles.get(role) for role in wanted} == wanted
    assert {
        "customer",
        "order",
        "placed",
        "amount",
        "unit_price",
        "quantity",
    } & roles.keys() <= wanted.keys()
    for role, column in wanted.items():
        assert role in done.stdout
        assert column.split()[0] in done.stdout
    with_scheme, without = (
        fairladder("customers", orders, *more) for more in (("--scheme", scheme), ())
    )
    assert with_scheme.returncode == 0, with_scheme.stderr
    assert with_scheme.stdout == without.stdout  # the same guesses without a scheme
    assert "Columns are guessed: " in without.stderr
    assert (
        pd.read_csv(orders, sep=";", dtype=str).shape[0]
        == fl.open_orders(orders, scheme=scheme).balance.used
    )


@pytest.mark.parametrize(
    ("columns", "message"),
    [
        ({"customer": PEOPLE, "date_one": ISO, "date_two": ISO, "total": MONEY}, "`date_one` or `date_two` could be the day of the order. Choose with --placed-column NAME."),
        ({"client": PEOPLE, "member": SLIPS, "date": ISO, "total": MONEY}, "`client` or `member` could be the customer's id. Choose with --customer-column NAME."),
        ({"customer": PEOPLE, "date": ISO, "net_value": MONEY, "gross_value": MONEY}, "`net_value` or `gross_value` could be the amount. Choose with --amount-column NAME."),
        ({"a": ["-"] * N, "b": ISO, "c": MONEY}, "no column is known for `customer`. Name it under [orders] in the scheme or with --customer-column NAME. The columns are: `a`, `b`, `c`."),
    ],
)  # fmt: skip
def test_two_equally_good_columns_raise_a_question(tmp_path, fairladder, columns, message):
    orders, scheme = tmp_path / "orders.csv", tmp_path / "scheme.toml"
    pd.DataFrame(columns).to_csv(orders, index=False)
    done = fairladder("score", orders)
    assert (done.returncode, done.stdout) == (2, "")
    assert message in done.stderr
    begun = fairladder(
        "start", orders, "--out", scheme
    )  # writes all that is known, and a line to complete
    assert begun.returncode == 1
    assert "one thing must be completed before it can be used" in begun.stderr
    assert message in begun.stderr
    role, column = FILLED[tuple(columns)]
    (line,) = [
        one
        for one in scheme.read_text().splitlines()
        if one.startswith(f'# {role} = "…" # to fill in')
    ]
    scheme.write_text(scheme.read_text().replace(line, f'{role} = "{column}"'))
    assert column in line
    assert fairladder("score", orders, "--scheme", scheme).returncode == 0


#: The answers of a user where start could not decide.
FILLED = {
    ("customer", "date_one", "date_two", "total"): ("placed", "date_two"), ("client", "member", "date", "total"): ("customer", "member"),
    ("customer", "date", "net_value", "gross_value"): ("amount", "gross_value"), ("a", "b", "c"): ("customer", "a"),
}  # fmt: skip


def test_start_writes_the_format_of_numeric_dates(tmp_path, fairladder):
    orders, scheme = tmp_path / "orders.csv", tmp_path / "scheme.toml"
    rows = "".join(f"K{i % 5};T{i};{1750000000 + 86400 * i};{i},50\n" for i in range(40))
    orders.write_text("account;ticket;created;sum\n" + rows)
    assert fairladder("start", orders, "--out", scheme).returncode == 0
    assert 'date_format = "epoch-seconds"' in scheme.read_text()
    alone, output = (
        fairladder("customers", orders, *more).stdout for more in ((), ("--scheme", scheme))
    )
    assert alone == output
    assert fairladder("start", orders, "--out", "-").stdout == scheme.read_text()


def test_start_uses_given_roles_and_never_overwrites(tmp_path, fairladder):
    orders, scheme = tmp_path / "orders.csv", tmp_path / "mine.toml"
    pd.DataFrame({"client": PEOPLE, "member": SLIPS, "date": ISO, "total": MONEY}).to_csv(
        orders, index=False
    )
    reported = fairladder("start", orders, "--out", scheme, "--customer-column", "member")
    assert reported.returncode == 0, reported.stderr
    assert 'customer = "member" # given by you' in scheme.read_text()
    again = fairladder("start", orders, "--out", scheme)
    assert (again.returncode, again.stderr) == (
        2,
        f"Error: '{scheme}' exists already and is not overwritten. Name another file with --out.\n",
    )
    schema = fairladder("start", "--json-schema").stdout
    assert '"amount_is"' in schema
    assert '"date_format"' in schema


def test_start_needs_only_a_header(tmp_path, fairladder):
    orders, scheme = tmp_path / "orders.csv", tmp_path / "scheme.toml"
    orders.write_text("Bestell-Nr;Kunden-Nr;Datum;Betrag;Versand Betrag\n")
    begun = fairladder("start", orders, "--out", scheme)
    assert begun.returncode == 0, begun.stderr
    assert (
        'customer = "Kunden-Nr" # its name suggests the customer\'s id; it has no cells yet'
        in scheme.read_text()
    )
    assert 'amount = "Betrag"' in scheme.read_text()
    orders.write_text(orders.read_text() + "1;K1;2026-01-05;5,50;1,00\n")
    done = fairladder("customers", orders, "--scheme", scheme, "--columns", "customer,spend")
    assert (done.returncode, done.stdout) == (0, "customer,spend\nK1,5.50\n")


def test_start_comments_on_unused_amounts_and_odd_accounts(tmp_path, fairladder):
    rows = "".join(
        f"{who};2026-0{i}-01;5;1;1\n"
        for i in range(1, 4)
        for who in ("a", "b", "test", "staff 1", "O'guest")
    )
    (tmp_path / "o.csv").write_text("Client;Date;Total;Shipping;Tax\n" + rows)
    done = fairladder("start", "o.csv", cwd=tmp_path)
    text = (tmp_path / "scheme.toml").read_text()
    assert "\n# Neither added to nor subtracted from `Total`: `Shipping`, `Tax`\n" in text
    output = " ".join(done.stdout.split())
    assert (
        "by id or name 2 customers look like accounts rather than customers: 'staff 1', 'test'."
        in output
    )
    line = "where = \"Client NOT IN ('staff 1', 'test')\""
    assert f"with `{line}` under [orders]" in output
    (tmp_path / "scheme.toml").write_text(text.replace("[orders]\n", f"[orders]\n{line}\n", 1))
    kept = fairladder(
        "customers", "o.csv", "--scheme", "scheme.toml", "--columns", "customer", cwd=tmp_path
    )
    assert kept.stdout.split() == ["customer", "O'guest", "a", "b"]


def test_start_names_the_setting_that_would_read_most_rows(tmp_path, fairladder):
    for rows, option in (("a,nix,1\nb,2026-01-01,2\n", "--date-format"), ("a,2026-01-01,x\nb,2026-01-01,2\n", "--decimal-mark"),
                         (",2026-01-01,1\nb,2026-01-01,2\n", "--customer-column"), ("a,2026-01-01,\nb,2026-01-01,2\n", "--amount-column")):  # fmt: skip
        (tmp_path / "o.csv").write_text("customer,placed,amount\n" + rows)
        refused = fairladder("customers", tmp_path / "o.csv")
        assert (refused.returncode, option in refused.stderr) == (1, True), refused.stderr


def test_start_accepts_options_from_its_messages(tmp_path, fairladder):
    (tmp_path / "o.csv").write_text(
        "customer,placed,amount\na,nix,1\nb,2026-01-01,2\nb,2026-01-01,2\nc,2026-01-01,-9\n"
    )
    refused = fairladder("start", "o.csv", "--out", "a.toml", cwd=tmp_path)
    assert (refused.returncode, "pass --allow-set-aside" in refused.stderr) == (1, True)
    words = ["--allow-set-aside", "--where", "amount > 0", "--drop", "repeats"]
    assert fairladder("start", "o.csv", "--out", "b.toml", *words, cwd=tmp_path).returncode == 0
    done = fairladder(
        "customers",
        "o.csv",
        "--scheme",
        "b.toml",
        "--columns",
        "customer,spend",
        "--quiet",
        cwd=tmp_path,
    )
    assert done.stdout.splitlines()[1:] == ["b,2.00"]

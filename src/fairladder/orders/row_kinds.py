"""Find columns that distinguish several kinds of rows: sales from payments, fees, shipping, taxes
and tests.
"""

import re

from fairladder.orders.rows import Rows
from fairladder.orders.words import words_of
from fairladder.sqltree import cell_column, named, select, sql

#: Words for rows that are not sales, in several languages; whole words of a cell.
_KINDS = frozenset(
    "payment payments payout payouts fee fees shipping postage freight delivery tax vat refund refunds refunded return returns chargeback "
    "adjustment adjustments reversal withdrawal withdrawals deposit deposits transfer transfers tip tips test rounding balance interest "
    "zahlung zahlungen zahlungseingang gebuhr gebuhren versand versandkosten porto steuer mwst gutschrift erstattung auszahlung einzahlung "
    "ruckzahlung trinkgeld storno paiement frais livraison remboursement avoir versement pourboire taxe pago pagos comision envio reembolso "
    "devolucion impuesto abono propina pagamento commissione spedizione rimborso imposta pagamento taxa frete reembolso imposto betaling "
    "verzendkosten terugbetaling belasting betalning avgift frakt aterbetalning moms gebyr fragt refusjon platnosc oplata wysylka zwrot podatek "
    "platba poplatek doprava vratka fizetes dij szallitas visszaterites maksu palautus toimitus".split()
)
_RETURNS = frozenset("refund refunds refunded return returns chargeback reversal gutschrift erstattung ruckzahlung remboursement avoir reembolso devolucion "
                     "abono rimborso terugbetaling aterbetalning refusjon zwrot vratka visszaterites palautus storno".split())  # fmt: skip
#: A yes/no column whose name has one of these words marks rows that are probably not sales.
_FLAGS = frozenset(
    "test testing deleted void voided cancelled canceled refunded returned internal fake sandbox draft spam fraud fraudulent training demo storno "
    "storniert geloscht annule supprime anulado eliminado annullato cancellato geannuleerd".split()
)
_TRUE = frozenset("true t yes y 1 on ja oui si sim".split())
#: Names of columns that describe the payment or shipping, not the kind of row.
_OTHER = frozenset(
    "method methods mode channel product item sku description title customer category city country".split()
)
_ROWS_LOOKED_AT, _MOST_KINDS = 5000, 12


def is_return(kind: str) -> bool:
    """Return True if a cell means that its row is a return or refund."""
    return not _RETURNS.isdisjoint(words_of(kind))


def kinds_of_rows(rows: Rows) -> dict[str, list[str]]:
    """Return column → cells for rows that are probably not sales, among columns without a role and
    with few different cells in the first rows.
    """
    names = [
        name for name, kind in rows.source.columns.items()
        if kind in ("text", "truth", "whole") and name not in rows.roles.columns.values() and _OTHER.isdisjoint(words_of(name))
    ]  # fmt: skip
    if not names:
        return {}
    cells = [
        named(sql("NULLIF(TRIM(CAST(:c AS VARCHAR)), '')", c=cell_column(n)), f"c{i}")
        for i, n in enumerate(names)
    ]
    table = rows.source.engine.table(
        select(
            cells, select(["*"], rows.source.relation).limit(_ROWS_LOOKED_AT, copy=False), "first"
        )
    )
    found = {}
    for i, name in enumerate(names):
        there = {cell for cell in table[f"c{i}"].to_pylist() if cell is not None}
        if 2 <= len(there) <= _MOST_KINDS and (odd := _odd(name, there)) and len(odd) < len(there):
            found[name] = odd
    return found


def _odd(name: str, cells: set[str]) -> list[str]:
    if not _FLAGS.isdisjoint(words_of(name)) and len(cells) == 2:
        return sorted(cell for cell in cells if cell.casefold() in _TRUE)
    return sorted(
        cell
        for cell in cells
        if not re.search(r"\d", cell) and not _KINDS.isdisjoint(words_of(cell))
    )

"""``fairladder orders``: one row per order, with its place in its customer's history."""

from fairladder import wording
from fairladder.cli.options import Request
from fairladder.frames import rows_of


def orders(request: Request) -> None:
    """One row per order: the customer's how-manieth, first or repeat, days since the last, share of the customer's spend."""
    from fairladder.book.kept_orders import OrderTable
    from fairladder.cli import door, screen

    opened = door.opened(request, ("orders",), keep=OrderTable(None, mixed=False, sequence=True))
    with screen.busy(request, "Reading the orders"):
        from fairladder.history.ledger import order_ledger

        ledger = order_ledger(opened)
    bought = ledger[ledger["nth"].notna()]
    repeat = int((bought["kind"] == "repeat").sum())
    refunds = int((ledger["amount"] < 0).sum())
    share = wording.percent(repeat / len(bought)) if len(bought) else "none"
    counted = f"{wording.count(len(bought))} purchases, {share} of them repeat, {wording.count(refunds)} refunds"
    title = f"What was ordered? {counted}; the latest"
    shown = ledger.iloc[::-1].head(20)
    rows = [
        [o.customer, str(getattr(o, "order", "")), wording.day(o.placed_on), wording.money(o.amount, 2), wording.count(o.lines),
         "" if wording.missing(o.nth) else wording.count(o.nth), "" if wording.missing(o.kind) else str(o.kind),
         wording.NOTHING if wording.missing(o.gap_days) else wording.count(o.gap_days), wording.percent(o.share_of_customer)]
        for o in rows_of(shown)
    ]  # fmt: skip
    columns = ["customer", "order", "day", "amount", "lines", "nth", "kind", "gap in days", "share of the customer"]
    door.give(request, opened, {"orders": ledger}, [screen.table(title, columns, rows, left=3)])

"""``fairladder orders``: one row per order, with its place in its customer's history."""

from fairladder import looks
from fairladder.cli.options import Request


def orders(request: Request) -> None:
    """One row per order: the customer's how-manieth, first or repeat, days since the last, share of the customer's spend."""
    from fairladder.cli import screen

    opened = screen.opened(request, ("orders",))
    with screen.busy(request, "Reading the orders"):
        from fairladder.history.ledger import order_ledger

        ledger = order_ledger(opened)
    bought = ledger[ledger["nth"].notna()]
    repeat = int((bought["kind"] == "repeat").sum())
    refunds = int((ledger["amount"] < 0).sum())
    share = looks.percent(repeat / len(bought)) if len(bought) else "none"
    title = f"What was ordered? {looks.count(len(bought))} purchases, {share} of them repeat, {looks.count(refunds)} refunds; the latest"
    shown = ledger.iloc[::-1].head(20)
    rows = [
        [o.customer, str(getattr(o, "order", "")), looks.day(o.placed_on), looks.money(o.amount, 2), looks.count(o.lines),
         "" if looks.missing(o.nth) else looks.count(o.nth), "" if looks.missing(o.kind) else str(o.kind),
         looks.NOTHING if looks.missing(o.gap_days) else looks.count(o.gap_days), looks.percent(o.share_of_customer)]
        for o in shown.itertuples(index=False)
    ]  # fmt: skip
    columns = ["customer", "order", "day", "amount", "lines", "nth", "kind", "gap in days", "share of the customer"]
    screen.give(request, opened, {"orders": ledger}, [screen.table(title, columns, rows, left=3)])

"""Check and score in one session, as in a notebook: the rows are read once.

python benchmarks/together.py ORDERS OUT
"""

import datetime as dt
import sys

import fairladder as fl

ROLES = {"customer": "member_no", "order": "slip", "placed": "sold_at", "amount": "line_total"}


def main() -> None:
    source, out = sys.argv[1:3]
    orders = fl.open_orders(
        source, scheme={"orders": ROLES, "time": {"as_of": dt.date(2026, 6, 30)}}
    )
    orders.check()
    fl.write(fl.score(orders.customers(), orders.scheme), out)


if __name__ == "__main__":
    main()

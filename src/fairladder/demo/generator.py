"""Generate the sample shop's files, the same bytes for the same seed: ``python -m
fairladder.demo.generator FOLDER``.

Three years of order lines and the member list of an invented yarn studio, with what real exports
bring along:

* members who never ordered, and a handful of orders by numbers that are on no list;
* members with the same name, and one number written with a space inside;
* many members with equally many orders, so that ladders meet heavy ties;
* refunds, booked as orders of their own or as a line of the order they undo, and free sample cards
(orders of zero);
* a cancelled state, once left blank; guests without a number; a broken date; a missing amount;
lines sent twice;
* a season, sales in the last minute of a month, a district that stops winning members, post orders
on the wane;
* a total row at the end.
"""

import csv
import datetime as dt
import math
import random
import sys
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

SEED = 1187
START, END = dt.date(2023, 7, 1), dt.date(2026, 6, 30)
MEMBERS, NEVER, STRANGERS = 1120, 78, 9
#: District → weight among new members, and the day after which it gains none (the shop's stall
#: moved away).
DISTRICTS: dict[str, tuple[int, dt.date | None]] = {
    "Quillmoor": (24, None), "Upper Fenwold": (17, None), "Saltmarsh": (15, dt.date(2025, 2, 23)),
    "Harrowby Dale": (12, None),
    "Tarnbeck": (11, None), "Oxenholt": (9, None), "Little Wexley": (7, None),
    "Grimsey Isle": (5, None),
}  # fmt: skip
#: Orders by month from January: many in late autumn, few in high summer.
SEASON = (1.02, 1.0, 0.95, 0.85, 0.75, 0.62, 0.55, 0.7, 1.1, 1.35, 1.7, 1.45)
FIRST = (
    "Adela Bram Cosima Darragh Elspeth Fenna Garrick Hesper Ione Jory Kerensa Lowri Merrin Nesta "
    "Orla Piran Quilla Rhona "
    "Sorrel Tamsin Una Verity Wilmot Xanthe Yestin Zelah Aldous Briony Corin Delphine Emlyn Fleur "
    "Gethin Hollis"
).split()
LAST = (
    "Thorn Ash Pellow March Oak Tregel Winter Carder Dun Ever Fox Gather Hobble Ingle Kettle "
    "Larks Moss Nether Otter Puddi "
    "Rush Skein Tans Umber Vel Wool Yarrow Quince Birk Crane"
).split()
ENDS = (
    "wick barrow field bank hanger low dale stone combe worth mire cote ton moor ray pindle ham "
    "by slade foot beck ford ley leigh"
).split()
#: Category → products with their prices.
GOODS: dict[str, tuple[tuple[str, float], ...]] = {
    "skeins": (("Tidewrack DK", 14.5), ("Heather Fingering", 19.0), ("Peatsmoke Aran", 16.25),
    ("Lambs' Ear Lace", 21.9),
               ("Gorse Sock", 17.5), ("Mist Mohair", 12.75), ("Ploughland Chunky", 23.0)),
    "needles": (("Birch circulars 4 mm", 9.8), ("Birch straights 5 mm", 8.4),
    ("Steel tips 3.25 mm", 13.6), ("Cable, 80 cm", 5.25)),
    "kits": (("Harbour shawl kit", 48.0), ("First hat kit", 29.5), ("Puffin mittens kit", 34.9),
    ("Advent minis kit", 64.0)),
    "workshops": (("Dye day", 85.0), ("Steeking, an evening", 38.0), ("Socks from scratch", 55.0)),
}  # fmt: skip
CATEGORIES = (("skeins", 66), ("needles", 15), ("kits", 14), ("workshops", 5))
ORDER_COLUMNS = (
    "slip", "sold_at", "member_no", "channel", "category", "product", "quantity", "unit_price",
    "discount", "line_total", "state",
)  # fmt: skip
MEMBER_COLUMNS = ("member_no", "full_name", "district", "joined", "born", "email_ok")


@dataclass
class Member:
    """A member with the parameters of their buying."""

    number: str
    name: str
    district: str
    joined: dt.date
    born: dt.date | None
    email_ok: str
    loves: str
    """The channel of most of their orders."""
    faithful: bool
    """True if all orders use that channel."""
    gap: float
    """Mean days between orders."""
    leaves: float
    """Probability of not coming back after an order."""
    basket: float
    orders: list[tuple[dt.datetime, str]] = field(default_factory=list)


def make_shop(folder: Path, seed: int = SEED) -> None:
    """Write ``orders.csv`` and ``members.csv`` into ``folder``."""
    dice = random.Random(seed)
    buyers = [_member(dice, i) for i in range(MEMBERS)]
    for member in buyers:
        member.orders = list(_visits(dice, member))
    listed = buyers[:-STRANGERS] + [_member(dice, MEMBERS + i) for i in range(NEVER)]
    for twin, other in ((40, 700), (95, 1003), (333, 812)):
        listed[twin].name = listed[other].name
    listed.sort(key=lambda m: m.number)
    _write(folder / "members.csv", MEMBER_COLUMNS, (_member_row(m) for m in listed))
    _write(folder / "orders.csv", ORDER_COLUMNS, _with_warts(dice, _lines(dice, buyers)))


def _member(dice: random.Random, i: int) -> Member:
    joined = START + dt.timedelta(days=int((END - START).days * dice.random() ** 1.25))
    open_districts = {d: w for d, (w, last) in DISTRICTS.items() if last is None or joined <= last}
    kind = dice.choices(("regular", "seldom", "keen", "gift"), (32, 32, 11, 25))[0]
    gap, leaves, basket = {
        "regular": (47.0, 0.055, 1.0), "seldom": (115.0, 0.17, 0.85), "keen": (21.0, 0.022, 1.35),
        "gift": (200.0, 0.72, 1.15),
    }[kind]  # fmt: skip
    return Member(
        number=f"{(i * 7919 + 412) % 10007:05d}",
        name=f"{dice.choice(FIRST)} {dice.choice(LAST)}{dice.choice(ENDS)}",
        district=dice.choices(list(open_districts), list(open_districts.values()))[0],
        joined=joined,
        born=dt.date(dice.randint(1941, 2006), dice.randint(1, 12), dice.randint(1, 28))
        if dice.random() > 0.07
        else None,
        email_ok="yes" if dice.random() < 0.71 else "no",
        loves=dice.choices(("web", "stall", "post"), (54, 29, 17))[0],
        faithful=dice.random() < 0.45,
        gap=gap * math.exp(dice.gauss(0, 0.35)),
        leaves=leaves,
        basket=basket * math.exp(dice.gauss(0, 0.3)),
    )


def _visits(dice: random.Random, member: Member) -> Iterator[tuple[dt.datetime, str]]:
    """Yield times and channels of a member's orders, from the day of joining until they leave or
    the period ends.
    """
    day = float((member.joined - START).days)
    while day <= (END - START).days:
        date = START + dt.timedelta(days=int(day))
        channel = (
            member.loves
            if member.faithful or dice.random() < 0.7
            else dice.choice(("web", "stall", "post"))
        )
        fading = (date - START).days / (END - START).days
        if (
            channel == "post"
            and dice.random() < 0.75 * fading
            and not (member.faithful and dice.random() < 0.3)
        ):
            if member.faithful:
                return
            channel = "web"
        if channel == "stall":  # market day
            date += dt.timedelta(days=(5 - date.weekday()) % 7)
        if date > END:
            return
        yield (
            dt.datetime.combine(
                date, dt.time(dice.randint(9, 20), dice.randint(0, 59), dice.randint(0, 59))
            ),
            channel,
        )
        if dice.random() < member.leaves:
            return
        wait = dice.gammavariate(1.6, member.gap / 1.6)
        month = (START + dt.timedelta(days=int(day + wait))).month
        day += max(1.0, wait / SEASON[month - 1] ** 0.8)


def _lines(dice: random.Random, members: list[Member]) -> list[list[str]]:
    """Return all order lines in order of time."""
    visits = sorted(
        ((when, m.number, channel, m) for m in members for when, channel in m.orders),
        key=lambda v: v[:3],
    )
    rows = []
    for number, (when, member_no, channel, member) in enumerate(visits, start=1):
        if dice.random() < 0.006:  # closing time on the last of the month
            last = (when.replace(day=28) + dt.timedelta(days=4)).replace(day=1) - dt.timedelta(
                days=1
            )
            when = last.replace(hour=23, minute=59, second=dice.randint(0, 59))
        state = dice.choices(("paid", "cancelled"), (970, 30))[0]
        slip = f"Q{number:05d}"
        basket = list(_basket(dice, member))
        rows += [
            [slip, f"{when:%Y-%m-%dT%H:%M:%S}", member_no, channel, *line, state] for line in basket
        ]
        later = when + dt.timedelta(days=dice.randint(2, 12))
        if state == "paid" and dice.random() < 0.018 and later.date() <= END:
            rows.append(_refund(f"Q{number:05d}R", later, member_no, channel, basket[0]))
        elif (
            state == "paid" and len(basket) > 1 and dice.random() < 0.012
        ):  # one of its lines is returned immediately
            rows.append(_refund(slip, when, member_no, channel, basket[-1]))
        if dice.random() < 0.004:
            gift = ["skeins", "Shade card", "1", "0.00", "", "0.00"]
            rows.append(
                [f"Q{number:05d}F", f"{when:%Y-%m-%dT%H:%M:%S}", member_no, channel, *gift, "paid"]
            )
    return rows


def _basket(dice: random.Random, member: Member) -> Iterator[list[str]]:
    """Yield category, product, quantity, unit price, discount and total of each line of one
    order.
    """
    bought: set[str] = set()
    for _ in range(1 + min(8, int(dice.expovariate(1 / (1.9 * member.basket))))):
        category = dice.choices([c for c, _ in CATEGORIES], [w for _, w in CATEGORIES])[0]
        product, price = dice.choice(GOODS[category])
        if product in bought:
            continue
        bought.add(product)
        quantity = 1 + (
            min(7, int(dice.expovariate(1 / (1.1 * member.basket)))) if category == "skeins" else 0
        )
        percent = dice.choices((0, 5, 10, 15), (78, 9, 9, 4))[0]
        cents = quantity * round(price * 100) * (100 - percent)
        total = (cents + 50) // 100
        yield [
            category,
            product,
            str(quantity),
            f"{price:.2f}",
            f"0.{percent:02d}" if percent else "",
            _money(total),
        ]


def _refund(
    slip: str, when: dt.datetime, member_no: str, channel: str, line: list[str]
) -> list[str]:
    category, product, quantity, price, discount, total = line
    back = [category, product, f"-{quantity}", price, discount, f"-{total}"]
    return [slip, f"{when:%Y-%m-%dT%H:%M:%S}", member_no, channel, *back, "paid"]


def _with_warts(dice: random.Random, rows: list[list[str]]) -> Iterator[list[str]]:
    """Yield the lines as the till exports them, with the flaws of real exports and a total row at
    the end.
    """
    guests = {row[0] for row in rows if dice.random() < 0.004}
    for row in rows:
        if row[0] in guests:
            row[2] = ""
    rows[len(rows) // 5][1] = "31.02.2024"
    rows[len(rows) * 5 // 41][9] = ""
    rows[len(rows) * 3 // 4][10] = ""
    spaced = rows[len(rows) * 3 // 5]
    spaced[2] = f"{spaced[2][:2]} {spaced[2][2:]}"
    twice = {len(rows) * part // 23 for part in (2, 7, 13, 19)}
    total = 0
    for i, row in enumerate(rows):
        for _ in range(2 if i in twice else 1):
            total += round(float(row[9] or 0) * 100)
            yield row
    yield ["", "", "Total", "", "", "", "", "", "", _money(total), ""]


def _member_row(member: Member) -> list[str]:
    born = member.born.isoformat() if member.born else ""
    return [
        member.number,
        member.name,
        member.district,
        member.joined.isoformat(),
        born,
        member.email_ok,
    ]


def _money(cents: int) -> str:
    return f"{cents // 100}.{cents % 100:02d}"


def _write(path: Path, columns: tuple[str, ...], rows: Iterator[list[str]]) -> None:
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(columns)
        writer.writerows(rows)


if __name__ == "__main__":
    make_shop(Path(sys.argv[1]))

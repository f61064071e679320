"""Find out why ids of the orders and of the customers file do not match: zeros, case, spaces, or
e-mail addresses on one side only.
"""

import re
from collections.abc import Callable, Collection, Sequence

from fairladder.findings import Finding, finding

_CAUSES: tuple[tuple[str, Callable[[str], str]], ...] = (
    ("leading zeros are missing on one side", lambda text: re.sub(r"^0+(?=\d)", "", text)),
    ("upper and lower case differ", str.casefold),
    ("spaces, dots or dashes differ", lambda text: re.sub(r"[\s.\-_/]+", "", text)),
    ("one side has a prefix", lambda text: re.sub(r"^\D+", "", text)),
    ("one side has decimals such as .0", lambda text: re.sub(r"\.0+$", "", text)),
)


def likely_cause(ours: Collection[str], theirs: Collection[str]) -> str:
    """Return a sentence with the likely cause and an example, from ids that are on one side only;
    empty if none is found.

    A cause is likely if it explains at least a fifth of the ids of the smaller side.
    """
    few = min(len(ours), len(theirs))
    for cause, key in _CAUSES:
        known = {key(text): text for text in theirs}
        pairs = [(text, known[key(text)]) for text in sorted(ours) if key(text) in known]
        if pairs and 5 * len(pairs) >= few:
            mine, other = pairs[0]
            return f"Probably {cause}: `{mine}` in the orders is `{other}` in the file. "
    mails = [sum("@" in text for text in side) * 2 > len(side) > 0 for side in (ours, theirs)]
    if mails[0] != mails[1]:
        return (
            f"Probably only {'the orders' if mails[0] else 'the file'} identify customers by "
            "e-mail address. "
        )
    return ""


def unmatched_of(
    ids: int, members: int, same: int, alone: Sequence[Sequence[str]], label: str
) -> Finding | None:
    """Return the finding ``unmatched-customers`` if under half of the smaller side's ids are on the
    other side, else None.

    Takes the number of ids of each side and of both, and sorted ids that are on one side ``alone``.
    """
    smaller = min(ids, members)
    if not smaller or same * 2 >= smaller:
        return None
    ours, theirs = (", ".join(f"`{i}`" for i in side[:3]) for side in alone)
    return finding(
        "unmatched-customers",
        smaller - same,
        ids=f"{smaller:,}",
        ours=ours,
        theirs=theirs,
        label=label,
        cause=likely_cause(*alone),
    )

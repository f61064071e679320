"""Draw the holdout and make pseudonyms, by keyed hashes of ids that do not depend on who else is
listed.
"""

import hashlib
import hmac
from collections.abc import Iterable
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

_WHOLE = 2**64


def held_out(campaign: str, customers: Iterable[str], percent: int | float) -> NDArray[np.bool_]:
    """Return a mask of the customers held out of the campaign, each with a probability of
    ``percent`` in a hundred.

    It uses a keyed hash (BLAKE2b) of the campaign's name and the customer's id alone. So the result
    does not depend on who else is listed, and no customer is held out of every campaign.
    """
    key = hashlib.blake2b(campaign.encode(), digest_size=32).digest()
    below = int(Fraction(str(percent)) * _WHOLE / 100)
    draws = (hashlib.blake2b(c.encode(), key=key, digest_size=8).digest() for c in customers)
    return np.array([int.from_bytes(d) < below for d in draws], dtype=bool)


def pseudonyms(customers: Iterable[str], secret: bytes) -> list[str]:
    """Return 32 hexadecimal digits for each id, by HMAC-SHA-256 with the secret, which is needed to
    identify customers.
    """
    return [hmac.new(secret, c.encode(), hashlib.sha256).hexdigest()[:32] for c in customers]

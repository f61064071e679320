"""Fit a ladder to any numbers: equal values share a rung, and sizes are as even as possible.

Run: python examples/a_ladder_of_your_own.py
"""

import fairladder as fl

#: Balls of yarn used for each of sixteen shawls; seven of them took exactly one.
BALLS = [1, 1, 1, 1, 1, 1, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10]

ladder = fl.Ladder.fit(BALLS, rungs=4)
print(
    "even: cuts", ladder.cuts, "sizes", ladder.sizes
)  # the seven stay together, the others share the remaining rungs
print("rungs", ladder.place(BALLS).tolist())

spreadsheet = fl.Ladder.fit(BALLS, rungs=4, method="inclusive")
print(
    "quartiles of a spreadsheet: sizes", spreadsheet.sizes, "without values on", spreadsheet.empty
)

# saved and loaded again, it places other values in the same way
again = fl.Ladder.from_dict(ladder.to_dict())
print("eleven balls are on rung", again.place([11])[0])

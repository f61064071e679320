"""A ladder on any numbers: equal values share a rung, sizes as even as that allows.

Run: python examples/a_ladder_of_your_own.py
"""

import fairladder as fl

#: Balls of yarn used for each of sixteen shawls; seven of them took exactly one.
BALLS = [1, 1, 1, 1, 1, 1, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10]

ladder = fl.Ladder.fit(BALLS, rungs=4)
print(
    "even: cuts", ladder.cuts, "sizes", ladder.sizes
)  # the seven stay together, the others share what is left
print("rungs", ladder.place(BALLS).tolist())

spreadsheet = fl.Ladder.fit(BALLS, rungs=4, method="inclusive")
print("quartiles of a spreadsheet: sizes", spreadsheet.sizes, "with nobody on", spreadsheet.empty)

again = fl.Ladder.from_dict(ladder.to_dict())  # saved and read back, it places others alike
print("eleven balls stand on rung", again.place([11])[0])

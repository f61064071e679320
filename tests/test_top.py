"""Test top lists: ranks, ties at the last place, groups, both directions, and empty lists."""

import io

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import fairladder as fl


def people(values, towns=None):
    return pd.DataFrame(
        {
            "customer": [f"c{i:02d}" for i in range(len(values))],
            "orders": 1,
            "spend": pd.array(values, dtype="Float64"),
            "town": towns or ["x"] * len(values),
        }
    )


@given(
    st.lists(st.tuples(st.one_of(st.none(), st.integers(0, 6)), st.sampled_from(["a", "b", None])), min_size=1, max_size=30),
    st.integers(1, 8), st.booleans(), st.booleans(), st.randoms(),
)  # fmt: skip
def test_top_list_includes_all_ties_with_the_last_place(rows, count, worst, grouped, dice):
    """The list has exactly those with fewer than `count` strictly better ones in their group; ranks
    are 1 + their number.
    """
    frame = people([v for v, _ in rows], [t for _, t in rows])
    listed = fl.top(frame, "spend", count=count, worst=worst, within="town" if grouped else None)
    wanted = {}
    for i, (value, town) in enumerate(rows):
        rivals = [v for v, t in rows if not grouped or t == town]
        if value is None:  # nulls last
            better = sum(v is not None for v in rivals)
        else:
            better = sum(v is not None and (v < value if worst else v > value) for v in rivals)
        if better < count:
            wanted[f"c{i:02d}"] = better + 1
    assert dict(zip(listed["customer"], listed["rank"], strict=True)) == wanted
    shuffled = frame.sample(frac=1, random_state=dice.randint(0, 9))
    assert fl.top(
        shuffled, "spend", count=count, worst=worst, within="town" if grouped else None
    ).equals(listed)


def test_top_list_by_percent_and_direction():
    """5 % of 21 is 1.05: customers with fewer than 1.05 better ones, two of them here. Less is
    better for recency.
    """
    frame = people([float(v) for v in range(21)]).assign(recency_days=range(21))
    assert fl.top(frame, "spend", percent=5)["spend"].tolist() == [20.0, 19.0]
    assert fl.top(frame, "recency_days", count=1)["recency_days"].tolist() == [0]
    assert fl.top(frame, "recency_days", count=1, worst=True)["recency_days"].tolist() == [20]


def test_top_command_reports_ties(tmp_path, fairladder):
    orders = tmp_path / "orders.csv"
    orders.write_text(
        "customer,order,placed,amount\na,1,2026-01-01,5\nb,2,2026-01-01,4\nc,3,2026-01-01,4\nd,4,2026-01-01,1\n"
    )
    done = fairladder("top", orders, "--count", "2")
    assert pd.read_csv(io.StringIO(done.stdout))[["rank", "customer"]].to_numpy().tolist() == [
        [1, "a"],
        [2, "b"],
        [2, "c"],
    ]
    assert "3 customers, since 2 tie for the last place" in done.stderr
    for words, listed, reported in (
        (
            ("--percent", "70%"),
            ["a", "b", "c"],
            "3 customers, including all ties with a last place",
        ),
        (
            ("--count", "2", "--ties", "exclude"),
            ["a"],
            "1 customer; those tied beyond a last place are excluded",
        ),
    ):
        done = fairladder("top", orders, *words)
        assert pd.read_csv(io.StringIO(done.stdout))["customer"].tolist() == listed
        assert reported in done.stderr
    for words, code, output in (
        (
            ("--by", "spnd"),
            2,
            "There is no measure `spnd` among the customers' columns. Did you mean `spend`?",
        ),
        (
            ("--by", "customer"),
            2,
            "`customer` contains neither numbers nor dates, so customers cannot be ranked by it. Try spend, orders or recency_days.",
        ),
        (("--count", "2", "--percent", "5"), 2, "Give either a count or a percent, not both."),
        (("--percent", "0"), 2, "A percentage is above 0 and up to 100, and 0 is not."),
        (
            ("--through", "2025-01-01"),
            1,
            "No customer has a purchase, so there is no best and no worst.",
        ),
    ):
        refused = fairladder("top", orders, *words)
        assert (refused.returncode, refused.stdout, output in refused.stderr) == (code, "", True), (
            refused.stderr
        )


def test_unknown_group_is_wrong_usage():
    with pytest.raises(fl.UsageError, match=r"There is no group `twon`.*name it in `at_first`"):
        fl.top(people([1.0]), within="twon")


def test_users_rank_column_is_kept():
    customers = pd.DataFrame(
        {"customer": list("abc"), "orders": 1, "spend": [1.0, 3.0, 2.0], "rank": ["x", "y", "y"]}
    )
    for within in (None, "rank"):
        found = fl.top(customers, by="spend", count=1, within=within)
        assert found.columns.tolist() == (
            ["rank", "rank (cell)", "customer", "orders", "spend"]
            if within
            else ["rank", "customer", "orders", "spend", "rank (cell)"]
        )
        assert found[["customer", "rank (cell)"]].to_numpy().tolist() == (
            [["a", "x"], ["b", "y"]] if within else [["b", "y"]]
        )

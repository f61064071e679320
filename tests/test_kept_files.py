"""Test files kept as orders: the next run reads only what is new, with the same bytes as a full
read.
"""

import json
import os

import pandas as pd
import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

import fairladder as fl
from conftest import times

LINE = st.fixed_dictionaries({
    "customer": st.sampled_from(["a", " a", "B", "0007", "", "Total"]), "order": st.sampled_from(["1", "2", "2 ", "3", ""]),
    "placed": st.sampled_from(["2024-01-05", "2024-03-01", "2024-03-01 10:00", "2025-02-28", "", "soon"]),
    "amount": st.sampled_from(["5", "5.00", "-3.10", "0", "12.345", "", "x"]), "channel": st.sampled_from(["web", "post", ""]),
    "name": st.sampled_from(["Ada", "Bea", ""]),
})  # fmt: skip
TOTAL = {"customer": "", "order": "", "placed": "", "amount": "17", "channel": "", "name": ""}


def reports_of(orders):
    """Return everything that orders report about customers and rows."""
    orders.require_fit()
    return (
        orders.customers().to_csv(),
        orders.balance,
        orders.account.signs,
        orders.as_of,
        orders.set_aside.to_csv(),
    )


@settings(
    max_examples=times(12), deadline=None, phases=[Phase.explicit, Phase.reuse, Phase.generate]
)
@given(
    st.lists(st.lists(LINE, min_size=1, max_size=8), min_size=2, max_size=4),
    st.booleans(),
    st.sampled_from([None, "2024-03-01"]),
)
def test_kept_files_equal_a_full_read(tmp_path_factory, files, total, as_of):
    """Orders with lines in several files, ids to trim, rows with every kind of problem, an as-of
    date in the middle.
    """
    folder = tmp_path_factory.mktemp("files")
    if total:
        files[-1].append(TOTAL)
    paths = []
    for number, lines in enumerate(files):
        paths.append(folder / f"{number}.csv")
        pd.DataFrame(lines).to_csv(paths[-1], index=False)
    scheme = {
        "orders": {"date_format": "iso", "decimal_mark": "."},
        "time": {"as_of": as_of and pd.Timestamp(as_of).date()},
    }
    kept = {**scheme, "orders": {**scheme["orders"], "kept_in": str(folder / "kept")}}
    for number in range(1, len(paths)):
        fl.open_orders(paths[:number], scheme=kept, allow_set_aside=True)
    there = fl.open_orders(paths, scheme=kept, allow_set_aside=True)
    assert there.kept_note.startswith(
        f"Of {len(paths)} files {len(paths) - 1} {'are' if len(paths) > 2 else 'is'} as"
    )
    here = fl.open_orders(paths, scheme=scheme, allow_set_aside=True)
    assert reports_of(there) == reports_of(here)


def test_changed_files_are_read_again_and_reported(tmp_path, shop, fairladder):
    rows = pd.read_csv(shop / "orders.csv", dtype=str, keep_default_na=False)[:3000]
    for number in range(3):
        rows[number * 1000 : (number + 1) * 1000].to_csv(tmp_path / f"{number}.csv", index=False)
    for name in ("scheme.toml", "members.csv"):
        (tmp_path / name).write_bytes((shop / name).read_bytes())

    def run(*words):
        done = fairladder(
            "score",
            "[0-9].csv",
            "--scheme",
            "scheme.toml",
            "--out",
            "kept.csv",
            "--kept-in",
            "orders",
            *words,
            cwd=tmp_path,
        )
        plain = fairladder(
            "score",
            "[0-9].csv",
            "--scheme",
            "scheme.toml",
            "--out",
            "plain.csv",
            *words,
            cwd=tmp_path,
        )
        assert done.returncode == plain.returncode == 0, done.stderr
        assert (tmp_path / "kept.csv").read_bytes() == (tmp_path / "plain.csv").read_bytes()
        return done.stderr

    assert "0 are as they were kept; 3 were read." in run()
    assert "3 are as they were kept; 0 were read." in run()
    rows[500:1000].to_csv(tmp_path / "0.csv", index=False)
    assert "1 was read. Changed since they were kept: 0.csv." in run()
    assert "Everything is read again, because the settings have changed (orders.where)." in run(
        "--where", "channel = 'web'"
    )
    assert "orders.where" in run()
    assert "Read for the as-of date, because of later rows: 2.csv." in run("--as-of", "2024-01-31")
    style = rows[1000:2000].assign(
        sold_at=lambda f: pd.to_datetime(f["sold_at"], format="mixed", errors="coerce").dt.strftime(
            "%d.%m.%Y"
        )
    )
    style.to_csv(tmp_path / "3.csv", index=False)
    assert "Nothing is kept: the format of dates or numbers in 3.csv depends on all rows." in run()
    (tmp_path / "3.csv").unlink()
    manifest = tmp_path / "orders/manifest.json"
    assert set(json.loads(manifest.read_text())["files"]) >= {"0.csv", "1.csv", "2.csv"}
    manifest.write_text("{")
    assert "because the kept data cannot be read" in run()
    (tmp_path / "letters").mkdir()
    (tmp_path / "letters/one.txt").write_text("dear")
    output = fairladder(
        "score", "0.csv", "--scheme", "scheme.toml", "--kept-in", "letters", cwd=tmp_path
    )
    assert (output.returncode, "contains other files" in output.stderr) == (2, True)
    with pytest.raises(fl.UsageError, match="contains other files"):
        fl.open_orders(
            tmp_path / "0.csv", scheme={"orders": {"kept_in": str(tmp_path / "letters")}}
        )


def test_nothing_is_kept_of_changed_and_deleted_files(tmp_path):
    """A customer who is removed from the files is in no file of the folder after the next run; a
    file outside the pattern stays kept; missing and damaged parts are read again.
    """
    kept = tmp_path / "kept"

    def write(name, *ids):
        rows = [(i, f"{name}{n}", "2024-01-05", "5.00") for n, i in enumerate(ids)]
        frame = pd.DataFrame(rows, columns=["customer", "order", "placed", "amount"])
        frame.to_csv(tmp_path / f"{name}.csv", index=False)

    def read(pattern="*.csv"):
        scheme = {"orders": {"kept_in": str(kept)}}
        return fl.open_orders(tmp_path / pattern, scheme=scheme).customers()["customer"].tolist()

    def everything():
        return {
            value
            for path in kept.glob("*.parquet")
            for column in pd.read_parquet(path)
            for value in pd.read_parquet(path)[column].astype(str)
        }

    write("a", "ada", "bea")
    write("b", "cleo", "ada")
    write("c", "dora")
    assert read() == ["ada", "bea", "cleo", "dora"]
    assert {"ada", "cleo", "dora"} <= everything()
    write("a", "bea")
    write("b", "cleo")
    assert read() == ["bea", "cleo", "dora"]
    assert "ada" not in everything()
    (tmp_path / "c.csv").unlink()
    assert read("a.csv") == ["bea"]
    assert "dora" not in everything()
    assert "cleo" in everything()  # b.csv exists, and was only not asked for
    assert read() == ["bea", "cleo"]
    for path in sorted(kept.glob("*.parquet")):
        whole = path.read_bytes()
        path.unlink()
        assert read() == ["bea", "cleo"]
        path.write_bytes(whole[: len(whole) // 2])
        assert read() == ["bea", "cleo"]

    def named():
        manifest = json.loads((kept / "manifest.json").read_text())
        customers = manifest["customers"] or {"kept": ""}
        return {e["kept"] for e in manifest["files"].values()} | {customers["kept"]} - {""}

    def there():
        return {path.name.split(".")[0] for path in kept.glob("*.parquet")}

    assert there() == named()
    left = kept / "left.orders.parquet"  # by a run that was killed
    left.write_bytes(b"x")
    write("b", "cleo", "eva")
    rows = "".join(f"zoe,z{n},2{n}.01.2024,5\n" for n in range(5))
    (tmp_path / "z.csv").write_text(f"customer,order,placed,amount\n{rows}")
    assert read("[bz].csv") == ["cleo", "eva", "zoe"]  # of z nothing can be kept, of b it is
    assert there() == {*named(), "left"}
    os.utime(left, (0, 0))
    (tmp_path / "z.csv").unlink()
    write("b", "cleo")
    assert read() == ["bea", "cleo"]
    assert there() == named()
    assert "eva" not in everything()

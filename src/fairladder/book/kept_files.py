"""Keep the orders of files in a folder, so that the next run reads only new files.

Of each file we keep its orders, in a form that can be merged with lines of the same orders in other
files. Of all files together we keep the customers; only customers whose orders have lines in a new
file are grouped again. A file is identified by its bytes and by all settings that orders depend on.
If either differs, the file is read again and the reason is reported.
"""

import datetime as dt
import hashlib
import json
import time
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from importlib.metadata import version
from pathlib import Path
from typing import Any

from sqlglot import exp

from fairladder.book.lines import SIGNS, lines
from fairladder.book.passes import Pass, pass_of
from fairladder.book.reduction import (
    GROUP_KEYS,
    mergeable_groups,
    merged_groups,
    order_columns,
    reduction,
    reduction_of_groups,
)
from fairladder.engine.embedded import Embedded
from fairladder.errors import DataError, UsageError
from fairladder.orders.formats import with_detected_formats, with_known_formats
from fairladder.orders.rows import Rows
from fairladder.orders.source import FILE, Source
from fairladder.orders.states import RowState
from fairladder.output.files import as_json, digest_of
from fairladder.output.targets import replacing
from fairladder.scheme import Scheme
from fairladder.sqltree import all_of, cell_column, cell_name, column, named, select, sql
from fairladder.wording import counted

#: Kept data is only understood by the same version of this format.
_FORMAT = 2
_MANIFEST = "manifest.json"
#: A part that no manifest names belongs to a run in progress, unless it is older than this.
_STALE_SECONDS = 24 * 3600
#: How each column of an order is merged with the same order's in another file.
_MERGED = {
    "amount": "CAST(SUM(amount) AS BIGINT)", "day": "MIN(day)",
    "lines": "CAST(SUM(lines) AS INTEGER)", "latest": "MAX(latest)",
    "name": "MAX(name)",
    "channel": "CASE WHEN MIN(channel_low) = MAX(channel_high) THEN NULLIF(MIN(channel_low), '') END",
    "offsets": "MAX(offsets)", "least": "MIN(least)",
    "files": "CASE WHEN MIN(home) = MAX(home) THEN 1 ELSE 2 END",
    **{name: f"CAST(SUM({name}) AS BIGINT)" for name in SIGNS},
}  # fmt: skip


@dataclass(frozen=True)
class KeptPass:
    """The result of ``read_kept``: the pass, the undecided rows, and a note on what was read."""

    passed: Pass
    undecided: exp.Select | None
    note: str

    def as_rows(self) -> exp.Select:
        """Return the undecided rows with the columns of ``Rows.tree``."""
        assert self.undecided is not None
        return self.undecided


def read_kept(rows: Rows, folder: Path) -> KeptPass | str:
    """Reduce the rows using what ``folder`` keeps of their files, and keep what is new; or return
    why that is impossible.

    The groups equal those of a full read. Parts that are missing or damaged are read again from
    their files. What was kept of files that have changed or no longer exist is removed. Raises
    UsageError if the folder cannot be created or belongs to something else.
    """
    if reason := _cannot(rows):
        return f"Nothing is kept: {reason}."
    rows = replace(with_known_formats(rows), channels=None)
    manifest, why = _manifest(folder, _settings(rows))
    try:
        return _read_on(rows, folder, manifest, why)
    except DataError:
        if not manifest["files"]:
            raise
        nothing = {**manifest, "files": {}, "customers": None}
        return _read_on(rows, folder, nothing, "the kept data cannot be read")


def _read_on(rows: Rows, folder: Path, manifest: Mapping[str, Any], why: str) -> KeptPass | str:
    """Reduce the rows with the parts in a manifest, and keep the parts that it lacks."""
    parts = rows.source.parts or (rows.source,)
    with ThreadPoolExecutor() as readers:  # hashing lets other threads run
        digests = list(readers.map(lambda part: digest_of(part.path), parts))
    found = {part.label: digest for part, digest in zip(parts, digests, strict=True)}
    entries: dict[str, Mapping[str, Any]] = {
        name: entry
        for name, entry in manifest["files"].items()
        if all(path.exists() for path in _files_of(entry, folder))
        and (name in found or Path(name).exists())
    }
    changed = [
        name
        for name, digest in found.items()
        if name in entries and entries[name]["digest"] != digest
    ]
    new = [part for part in parts if entries.get(part.label, {}).get("digest") != found[part.label]]
    for part in new:
        entry = _keep(_of_part(rows, part), folder, found[part.label])
        if isinstance(entry, str):
            _save(folder, {**manifest, "files": dict(sorted(entries.items()))})
            return f"Nothing is kept: {entry}."
        entries[part.label] = entry
    ends = [day for day in (rows.scheme.time.as_of, rows.scheme.time.through) if day is not None]
    late = [p for p in parts if ends and (entries[p.label]["latest"] or "") > min(ends).isoformat()]
    manifest = {**manifest, "files": dict(sorted(entries.items()))}
    if late:
        _save(folder, manifest)
        merged = _merged(
            rows,
            [entries[p.label] for p in parts if p not in late],
            [_of_part(rows, p) for p in late],
            folder,
        )
        passed = pass_of(rows, reduction(rows, as_written=False, kept=merged))
    else:
        passed = _of_customers(rows, [entries[p.label] for p in parts], manifest, folder)
    undecided = None if late else _undecided(rows, [entries[p.label] for p in parts], folder)
    return KeptPass(passed, undecided, _summary_note(parts, new, changed, late, why))


def _of_customers(
    rows: Rows, entries: Sequence[Mapping[str, Any]], manifest: Mapping[str, Any], folder: Path
) -> Pass:
    """Return the groups of all files: kept ones merged with those of new files, which are then kept
    as well.
    """
    engine, there = rows.source.engine, manifest.get("customers") or {"kept": "", "files": []}
    assert isinstance(engine, Embedded)
    names = [str(entry["kept"]) for entry in entries]
    path = folder / f"{there['kept']}.customers.parquet"
    # The part of a deleted or changed file cannot be subtracted from the sums.
    before = there["files"] if path.exists() and set(there["files"]) <= set(names) else []
    if set(before) == set(names):
        _save(folder, manifest)
        return pass_of(rows, reduction_of_groups(rows, _parquet([path])))
    whole = replace(rows, scheme=_without_end(rows.scheme))
    kept, split = None, None
    try:
        if before:
            old, new = (
                [n for n in names if (n in before) == there_already]
                for there_already in (True, False)
            )
            split = engine.keep(_in_both(whole, _orders_of(old, folder), _orders_of(new, folder)))
            kept = engine.keep(_with_new(whole, _parquet([path]), split, old, new, folder))
        else:
            kept = engine.keep(_groups(whole, _orders_of(names, folder)))
        name = hashlib.sha256(" ".join(sorted(names)).encode()).hexdigest()[:24]
        _write(engine, select(["*"], kept), folder / f"{name}.customers.parquet")
        _save(folder, {**manifest, "customers": {"kept": name, "files": names}})
        return pass_of(rows, reduction_of_groups(rows, kept))
    finally:
        for relation in (kept, split):
            if relation is not None:
                engine.forget(relation)


def _in_both(rows: Rows, old: exp.Expr, new: exp.Expr) -> exp.Select:
    """Return the groups that may have one order with lines in both old and new files; such parts
    cannot be added up.
    """
    keys = [column(name) for name in order_columns(rows, as_written=False) if name in GROUP_KEYS]
    there = exp.alias_(select(["key"], old).subquery(copy=False), "there", table=True)
    mine = exp.alias_(select([*keys, "key"], new).subquery(copy=False), "mine", table=True)
    return (
        select(keys, mine)
        .join(there, on=sql("mine.key = there.key"), join_type="semi", copy=False)
        .distinct(copy=False)
    )


def _with_new(
    rows: Rows,
    groups: exp.Expr,
    split: exp.Expr,
    old: Sequence[str],
    new: Sequence[str],
    folder: Path,
) -> exp.Select:
    """Merge the groups of old and new files; customers in ``split`` are computed again from all
    their orders.
    """
    fresh = _groups(rows, _orders_of(new, folder))
    names = [c.alias for c in fresh.selects]
    regrouped = _groups(
        rows,
        _among(rows, _orders_of([*old, *new], folder), split, "semi").subquery(
            "theirs", copy=False
        ),
    )
    parts = [
        _among(rows, groups, split, "anti"),
        _among(rows, fresh.subquery(copy=False), split, "anti"),
        regrouped,
    ]
    return merged_groups(names, _all_of(parts))


def _among(rows: Rows, relation: exp.Expr, groups: exp.Expr, kind: str) -> exp.Select:
    """Return the rows of a relation that belong to these groups (``semi``), or do not
    (``anti``).
    """
    mine = exp.alias_(select(["*"], relation).subquery(copy=False), "mine", table=True)
    keys = [name for name in order_columns(rows, as_written=False) if name in GROUP_KEYS]
    same = all_of([
        exp.NullSafeEQ(this=exp.column(n, table="mine", quoted=True),
        expression=exp.column(n, table="those", quoted=True)) for n in keys
    ])  # fmt: skip
    return select(["*"], mine).join(
        exp.alias_(groups, "those", table=True), on=same, join_type=kind, copy=False
    )


def _groups(rows: Rows, orders: exp.Expr) -> exp.Select:
    """Return the groups of kept orders in mergeable form."""
    return mergeable_groups(rows, _put_together(rows, orders))


def _orders_of(names: Sequence[str], folder: Path) -> exp.Expr:
    return _parquet([folder / f"{name}.orders.parquet" for name in names])


def _without_end(scheme: Scheme) -> Scheme:
    return scheme.model_copy(
        update={"time": scheme.time.model_copy(update={"as_of": None, "through": None})}
    )


def _cannot(rows: Rows) -> str:
    """Return why the orders of these files cannot be kept; empty if they can."""
    part, source = rows.scheme.orders, rows.source
    if not rows.embedded or any(part.path is None for part in (source.parts or (source,))):
        return "orders are only kept of files that are read on this machine"
    if (
        type(source) is not Source
        or part.channel_amounts
        or part.channel_customers
        or part.day_amounts
        or part.credit
    ):
        return "these rows are combined from several files or columns"
    if source.parts and rows.condition is not None and FILE in rows.condition.names:
        return f"`where` uses `{FILE}`, which depends on the other files"
    if not rows.has_orders:
        return "without a column of order ids every row is an order, and there is nothing to reduce"
    if part.amount_is == "order" or part.drop:
        return "repeated totals and repeated rows can only be found across all files"
    if rows.rates is not None:
        return "exchange rates may change"
    others = [
        part.label for part in source.parts if not source.text and not _kinds_agree(part, source)
    ]
    return f"{others[0]} has other column types than the first file" if others else ""


def _kinds_agree(part: Source, whole: Source) -> bool:
    return all(whole.columns[name] == kind for name, kind in part.columns.items())


def _settings(rows: Rows) -> dict[str, Any]:
    """Return all settings that a file's orders depend on. The as-of date is not one of them: each
    run excludes later rows itself.
    """
    scheme: Scheme = rows.scheme
    order_settings = scheme.orders.model_dump(mode="json", exclude={"kept_in", "allow"})
    kinds = {
        name: kind
        for name, kind in rows.source.columns.items()
        if not (rows.source.parts and name == FILE)
    }
    return {
        "format": _FORMAT, "version": version("fairladder"), "engine": version("duckdb"),
        "orders": order_settings,
        "roles": dict(rows.roles.columns), "kinds": kinds,
        "money": scheme.money.model_dump(mode="json"),
        "time_zone": scheme.time.time_zone,
        "from": scheme.time.from_.isoformat() if scheme.time.from_ else None,
        "dates": rows.writing.dates and rows.writing.dates.name,
    }  # fmt: skip


def _manifest(folder: Path, settings: Mapping[str, Any]) -> tuple[dict[str, Any], str]:
    """Return what is kept under these settings, and, if nothing usable is kept although the folder
    has data, the reason.
    """
    empty = {"kind": "fairladder kept orders", "settings": settings, "files": {}}
    path = folder / _MANIFEST
    if not path.exists():
        if folder.exists() and any(folder.iterdir()):
            raise UsageError(f"{str(folder)!r} contains other files. Name an empty or new folder.")
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise UsageError(
                f"The folder {str(folder)!r} cannot be created: {error.strerror}."
            ) from error
        _save(folder, empty)  # so that the folder is recognised as ours, whatever happens
        return empty, ""
    try:
        found = json.loads(path.read_text("utf-8"))
        there = found["settings"]
    except (OSError, ValueError, KeyError, TypeError):
        return empty, "the kept data cannot be read"
    if there == settings:
        return found, ""
    names = [name for name in settings if there.get(name) != settings[name]]
    keys = [
        f"orders.{k}"
        for k, v in settings["orders"].items()
        if "orders" in names and there["orders"].get(k) != v
    ]
    shown = ", ".join([*(n for n in names if n != "orders"), *keys])
    return empty, f"the settings have changed ({shown})"


def _save(folder: Path, manifest: Mapping[str, Any]) -> None:
    """Write the manifest, and remove the files that only the previous manifest names, or none for a
    day: a killed run may have left them.
    """
    names = {entry["kept"] for entry in manifest["files"].values()}
    customers = manifest.get("customers")
    if customers and not set(customers["files"]) <= names:
        customers = None  # the orders of a changed or deleted file are in their sums
    manifest = {**manifest, "customers": customers}
    before = _named_in(folder)
    with replacing(folder / _MANIFEST) as temporary:
        temporary.write_text(as_json(manifest), "utf-8")
    old = {p for p in folder.glob("*.parquet") if _age(p) > _STALE_SECONDS}
    for path in (before | old) - _files_in(manifest, folder):
        path.unlink(missing_ok=True)


def _age(path: Path) -> float:
    """Return the seconds since a file was written; 0 if another run has just removed it."""
    try:
        return time.time() - path.stat().st_mtime
    except FileNotFoundError:
        return 0.0


def _named_in(folder: Path) -> set[Path]:
    """Return the files that the folder's manifest names; none if it cannot be read."""
    try:
        return _files_in(json.loads((folder / _MANIFEST).read_text("utf-8")), folder)
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return set()


def _files_in(manifest: Mapping[str, Any], folder: Path) -> set[Path]:
    customers = manifest.get("customers")
    files = {path for entry in manifest["files"].values() for path in _files_of(entry, folder)}
    return files | ({folder / f"{customers['kept']}.customers.parquet"} if customers else set())


def _files_of(entry: Mapping[str, Any], folder: Path) -> list[Path]:
    """Return the files with the orders and the undecided rows of one of the source's files."""
    kinds = ("orders", "undecided") if entry["undecided"] else ("orders",)
    return [folder / f"{entry['kept']}.{kind}.parquet" for kind in kinds]


def _of_part(rows: Rows, part: Source) -> Rows:
    """Return the rows of one file, whatever the as-of date, with the columns that all files
    have.
    """
    columns = {
        name: kind
        for name, kind in rows.source.columns.items()
        if name != FILE or name in part.columns
    }
    return replace(
        rows, source=replace(part, columns=columns, parts=()), scheme=_without_end(rows.scheme)
    )


def _keep(rows: Rows, folder: Path, digest: str) -> Mapping[str, Any] | str:
    """Keep the orders of one file and its undecided rows; or return why its orders cannot be
    determined from this file alone.
    """
    engine = rows.source.engine
    assert isinstance(engine, Embedded)
    orders = engine.keep(_orders(rows, rows.source.label))
    try:
        sums = [
            "MAX(latest) AS latest",
            "BOOL_OR(state = :u) AS undecided",
            *(["MAX(unread) AS unread"] if rows.unread else []),
        ]
        summary = engine.table(
            select([sql(s, u=RowState.UNDECIDED) for s in sums], orders)
        ).to_pylist()[0]
        if summary.get("unread") and not _plainly_written(rows, int(summary["unread"])):
            return (
                f"the format of dates or numbers in {Path(rows.source.label).name} depends "
                "on all rows. Set it with --date-format and --decimal-mark"
            )
        # Two files with the same bytes stay two files: their rows count twice and are reported as
        # repeats.
        name = hashlib.sha256(f"{digest} {rows.source.label}".encode()).hexdigest()[:24]
        _write(engine, select(["*"], orders), folder / f"{name}.orders.parquet")
    finally:
        engine.forget(orders)
    if summary["undecided"]:
        _write(engine, _undecided_rows(rows), folder / f"{name}.undecided.parquet")
    latest = summary["latest"]
    return {"digest": digest, "kept": name,
    "latest": latest.isoformat() if isinstance(latest, dt.date) else None,
            "undecided": bool(summary["undecided"])}  # fmt: skip


def _plainly_written(rows: Rows, unread: int) -> bool:
    """Return True if unreadable cells are exceptions: most cells of the file fit its format, and so
    will most cells of all files.
    """
    try:
        better = with_detected_formats(rows, unread)
    except DataError:
        return False
    return replace(better.writing, detected=False, evidence=()) == replace(
        rows.writing, detected=False, evidence=()
    )


def _write(engine: Embedded, query: exp.Select, path: Path) -> None:
    with replacing(path) as temporary:
        engine.write_parquet(query, temporary)


def _orders(rows: Rows, home: str) -> exp.Select:
    """Return the orders of one file, each column in a form that can be merged with another
    file's.
    """
    trees = order_columns(rows, as_written=False)
    trees = {name: tree for name, tree in trees.items() if name != "files"}
    trees["latest"] = sql("MAX(:d)", d=column("day"))
    if "channel" in trees:
        written = sql("COALESCE(:c, '')", c=column("channel"))
        del trees["channel"]
        trees |= {
            "channel_low": sql("MIN(:w)", w=written),
            "channel_high": sql("MAX(:w)", w=written),
        }
    columns = [named(tree, name) for name, tree in trees.items()]
    grouped = select(
        [*columns, named(sql("MIN(:h)", h=exp.Literal.string(home)), "home")],
        lines(rows, as_written=False),
        "order_lines",
    )
    keys = [(i, c.alias) for i, c in enumerate(columns, start=1) if c.alias in _KEYS]
    grouped = grouped.group_by(*(exp.convert(i) for i, _ in keys), copy=False)
    key = exp.Anonymous(this="HASH", expressions=[column(name) for _, name in keys])
    return select(["*", named(key, "key")], grouped, "grouped")


_KEYS = (*GROUP_KEYS, "order_id")


def _merged(
    rows: Rows, entries: Sequence[Mapping[str, Any]], others: Sequence[Rows], folder: Path
) -> exp.Expr:
    """Return the orders of all files, with those in several files merged, with the columns of
    ``reduction.orders_of``.
    """
    kept = (
        [_parquet([folder / f"{entry['kept']}.orders.parquet" for entry in entries])]
        if entries
        else []
    )
    # Files with rows after the as-of date are read for it.
    direct = [_orders(replace(other, scheme=rows.scheme), other.source.label) for other in others]
    return _put_together(rows, _all_of([*(select(["*"], one) for one in kept), *direct]))


def _put_together(rows: Rows, orders: exp.Expr) -> exp.Select:
    """Return kept orders, merging those with parts in several files, with the columns of
    ``reduction.orders_of``.
    """
    wanted = list(order_columns(rows, as_written=False))
    keys = [name for name in wanted if name in _KEYS]
    zero = {"unread": sql("0")}
    trees = {n: column(n) if n in keys else zero.get(n) or sql(_MERGED[n]) for n in wanted}
    merged = select([named(tree, name) for name, tree in trees.items()], orders)
    return merged.group_by(*(exp.convert(i + 1) for i in range(len(keys))), copy=False)


def _undecided_rows(rows: Rows) -> exp.Select:
    names = [cell_column(name) for name in rows.source.columns]
    undecided = select([*names, column("#state"), column("#minor")], rows.tree(), "order_rows")
    return undecided.where(sql(":s = :u", s=column("#state"), u=RowState.UNDECIDED), copy=False)


def _undecided(rows: Rows, entries: Sequence[Mapping[str, Any]], folder: Path) -> exp.Select | None:
    """Return the undecided rows of all files; None if there are none."""
    files = [
        folder / f"{entry['kept']}.undecided.parquet" for entry in entries if entry["undecided"]
    ]
    if not files:
        return None
    found = select(["*"], _parquet(files))
    # The file's name is never blank, and exists only if there are several files.
    return (
        select(["*", named(exp.null(), cell_name(FILE))], found, "found")
        if rows.source.parts
        else found
    )


def _parquet(files: Sequence[Path]) -> exp.Expr:
    paths = exp.Array(expressions=[exp.Literal.string(str(file)) for file in files])
    by_name = exp.EQ(this=exp.column("union_by_name"), expression=exp.true())
    return exp.Table(this=exp.Anonymous(this="READ_PARQUET", expressions=[paths, by_name]))


def _all_of(queries: Sequence[exp.Select]) -> exp.Expr:
    together: exp.Expr = queries[0]
    for one in queries[1:]:
        together = exp.Union(this=together, expression=one, distinct=False, by_name=True)
    return exp.Subquery(this=together, alias=exp.TableAlias(this=exp.to_identifier("together")))


def _summary_note(
    parts: Sequence[Source],
    new: Sequence[Source],
    changed: Sequence[str],
    late: Sequence[Source],
    why: str,
) -> str:
    old = len(parts) - len(new)
    text = f"Of {counted(len(parts), 'files')} {old:,} {'is' if old == 1 else 'are'} as {'it was' if old == 1 else 'they were'} kept; "
    text += f"{len(new):,} {'was' if len(new) == 1 else 'were'} read."
    if why:
        text += f" Everything is read again, because {why}."
    if changed:
        text += (
            f" Changed since they were kept: {', '.join(Path(name).name for name in changed[:5])}."
        )
    if late:
        text += (
            " Read for the as-of date, because of later rows: "
            f"{', '.join(Path(p.label).name for p in late[:5])}."
        )
    return text

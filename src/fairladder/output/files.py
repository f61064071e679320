"""Write results to CSV, Parquet and JSON: to a temporary file that is then renamed, so that no half
file is ever visible.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np

from fairladder import wording
from fairladder.columns import decimals_of, is_money, kind_in, title
from fairladder.errors import UsageError, nearest
from fairladder.numbers import to_minor
from fairladder.output.listing import Listing
from fairladder.output.sheet import DAYS, CsvStyle, Sheet
from fairladder.output.targets import format_of, replacing, require_place, settings_path
from fairladder.scheme import Scheme
from fairladder.scratch import a_scratch_folder

if TYPE_CHECKING:
    import pandas as pd

    Written: TypeAlias = pd.DataFrame | Listing


def style_of(scheme: Scheme) -> CsvStyle:
    """Return the CSV style of the scheme."""
    part, currency = scheme.output, scheme.money.currency or ""
    if part.currency == "sign" and currency:
        from babel.numbers import get_currency_symbol

        currency = get_currency_symbol(currency, locale="en")
    return CsvStyle(
        part.separator,
        part.decimal_mark,
        part.byte_order_mark,
        part.days,
        currency if part.currency != "none" else "",
    )


def write(
    result: Written | Mapping[str, Written],
    path: str | Path,
    *,
    part: str | None = None,
    decimals: int = 2,
    facts: Mapping[str, Any] | None = None,
    spreadsheet_safe: bool = False,
    csv: CsvStyle | None = None,
) -> None:
    """Write a table, or one of several by name, to a file in the format of its suffix.

    ``csv`` is UTF-8 with comma and LF. Money has exactly ``decimals`` decimals, dates are ISO,
    nulls are empty, and ``facts`` are written to ``NAME.settings.json``. ``parquet`` has unrounded
    values, with ``facts`` as metadata. ``json`` is one object: the facts, then every table as a
    list of rows under its name; with ``part`` only that one. ``md`` and ``html`` are tables with
    numbers formatted for people, such as for a mail. ``xlsx`` has a sheet for each table, and data
    is never a formula. With ``spreadsheet_safe``, CSV text that a spreadsheet would read as a
    formula gets a leading apostrophe. The file is replaced all at once or not at all.

    Raises UsageError for an unknown suffix or part, or if the file cannot be written.

    >>> import fairladder as fl
    >>> import pathlib, tempfile
    >>> path = pathlib.Path(tempfile.mkdtemp()) / "best.csv"
    >>> fl.write(fl.sample_orders().top(count=1), path)
    >>> len(path.read_text().splitlines())
    2
    """
    tables = dict(result) if isinstance(result, Mapping) else {"rows": result}
    if part is not None and part not in tables:
        raise UsageError(f"There is no part {part!r} in this result. {nearest(part, tables)}")
    first = tables[part or next(iter(tables))]
    kind = format_of(path)
    if kind == "csv" and facts is not None:
        require_place(settings_path(path))
    with replacing(path) as temporary_file:
        if kind == "csv":
            sheet = sheet_of(made_safe(frame_of(first)) if spreadsheet_safe else first)
            sheet.write_csv(temporary_file, decimals, csv or CsvStyle())
            digest = digest_of(temporary_file)
        elif kind == "parquet":
            sheet_of(first).write_parquet(temporary_file, facts)
        elif kind == "xlsx":
            style = csv or CsvStyle()
            from fairladder.output.workbook import SheetLook, write_workbook

            look = SheetLook(decimals, style.currency, DAYS[style.days][1])
            write_workbook(_frames(tables, part), temporary_file, look, facts)
        elif kind in ("md", "html"):
            temporary_file.write_text(
                (as_markdown if kind == "md" else as_html)(frame_of(first), decimals, csv), "utf-8"
            )
        else:
            _write_json(facts or {}, _frames(tables, part), temporary_file, decimals)
    if kind == "csv" and facts is not None:
        # Written last, with the file's digest, which shows if a file and its facts do not belong
        # together.
        with replacing(settings_path(path)) as settings_file:
            settings_file.write_text(as_json({**facts, "digest": digest}), "utf-8")


def _frames(tables: Mapping[str, Written], part: str | None) -> dict[str, pd.DataFrame]:
    """Return all tables as DataFrames, or one of them."""
    return {name: frame_of(table) for name, table in tables.items() if part in (None, name)}


def digest_of(path: str | Path) -> str:
    """Return the SHA-256 of a file's bytes."""
    with open(path, "rb") as opened:
        return hashlib.file_digest(opened, "sha256").hexdigest()


def receipt_trouble(path: str | Path) -> str:
    """Return what is wrong with a CSV's file of facts; empty if it belongs to the CSV, or if the
    file is not a CSV.
    """
    if Path(path).suffix.lower() != ".csv":
        return ""
    name, receipt_path = Path(path).name, settings_path(path)
    try:
        receipt = json.loads(receipt_path.read_text("utf-8"))
    except FileNotFoundError:
        return (
            f"{name} has no receipt {receipt_path.name}, so it cannot be verified that the list is "
            "unchanged."
        )
    except (OSError, ValueError):
        return f"The receipt {receipt_path.name} of {name} cannot be read."
    if not isinstance(receipt, dict) or receipt.get("digest") != digest_of(path):
        return (
            f"The receipt {receipt_path.name} does not match {name}: the list was changed, or is "
            "another one."
        )
    return ""


def made_safe(frame: pd.DataFrame) -> pd.DataFrame:
    """Prefix an apostrophe to text that begins with ``=``, ``+``, ``-``, ``@``, tab or carriage
    return and is not a plain number.
    """
    import pandas as pd

    safe = {}
    for name, values in frame.items():
        if values.dtype == object or isinstance(values.dtype, pd.CategoricalDtype | pd.StringDtype):
            texts = values.astype(object).where(values.notna(), None)
            risky = texts.map(
                lambda v: isinstance(v, str) and v[:1] in _FORMULA and not _NUMBER.fullmatch(v)
            ).to_numpy(dtype=bool)
            if risky.any():
                values = texts.where(~risky, "'" + texts.astype(str))
        safe[_safe_text(name) if isinstance(name, str) else name] = values
    made = pd.DataFrame(safe)
    made.attrs = dict(frame.attrs)
    return made


def _safe_text(text: str) -> str:
    return f"'{text}" if text[:1] in _FORMULA and not _NUMBER.fullmatch(text) else text


_FORMULA = frozenset("=+-@\t\r")
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)")


def csv_text(result: Written, decimals: int, csv: CsvStyle | None = None) -> str:
    """Return the table as the CSV that ``write`` would write."""
    with a_scratch_folder() as folder:
        path = folder / "table.csv"
        sheet_of(result).write_csv(path, decimals, csv or CsvStyle())
        with path.open(encoding="utf-8", newline="") as file:
            return file.read()


def sheet_of(result: Written) -> Sheet:
    """Convert a DataFrame or a listing to a sheet, which is written as CSV or Parquet."""
    return result.sheet() if isinstance(result, Listing) else Sheet.of(result)


def frame_of(result: Written) -> pd.DataFrame:
    """Convert a DataFrame or a listing to a DataFrame."""
    return result.frame() if isinstance(result, Listing) else result


def as_markdown(frame: pd.DataFrame, decimals: int, style: CsvStyle | None = None) -> str:
    """Return the table in Markdown, with cells formatted for people."""
    cells = _for_people(frame, decimals, style or CsvStyle())
    numbers = [
        "--:" if kind in "iuf" else "---" for kind in (frame[name].dtype.kind for name in frame)
    ]
    lines = [list(cells.columns), numbers, *cells.to_numpy(dtype=object).tolist()]
    return "".join(
        f"| {' | '.join(str(c).replace('|', chr(92) + '|') for c in line)} |\n" for line in lines
    )


def as_html(frame: pd.DataFrame, decimals: int, style: CsvStyle | None = None) -> str:
    """Return the table in HTML, with cells formatted for people."""
    return (
        str(_for_people(frame, decimals, style or CsvStyle()).to_html(index=False, border=0)) + "\n"
    )


def _for_people(frame: pd.DataFrame, decimals: int, style: CsvStyle) -> pd.DataFrame:
    import pandas as pd

    def shown(name: str, value: Any) -> str:
        if wording.missing(value):
            return ""
        if is_money(frame, name):
            return f"{wording.money(value, decimals)} {style.currency}".rstrip()
        if style.days != "iso" and hasattr(value, "strftime"):
            return str(value.strftime(DAYS[style.days][0]))
        return wording.plain(wording.cell(value, kind_in(frame, name)))

    cells = {
        title(str(name)): [shown(str(name), value) for value in frame[name].astype(object)]
        for name in frame
    }
    return pd.DataFrame(cells)


def as_json(value: Any) -> str:
    """Return indented JSON text; values that JSON lacks (NaN, dates) raise an error."""
    return json.dumps(value, ensure_ascii=False, indent=1, allow_nan=False) + "\n"


#: Rows converted to JSON per batch: all of them as objects would need many times the table's
#: memory.
_JSON_ROWS = 5_000


def _write_json(
    facts: Mapping[str, Any], tables: Mapping[str, pd.DataFrame], path: Path, decimals: int
) -> None:
    """Write the facts and every table's rows as JSON, in batches."""
    with path.open("w", encoding="utf-8") as file:
        file.write("{")
        for number, name in enumerate({**facts, **tables}):
            file.write(f"{',' if number else ''}\n {json.dumps(name, ensure_ascii=False)}: ")
            if name not in tables:
                file.write(_indented(facts[name]))
                continue
            table = tables[name]
            file.write("[" if len(table) else "[]")
            for at in range(0, len(table), _JSON_ROWS):
                rows = _indented(json_rows(table.iloc[at : at + _JSON_ROWS], decimals))
                file.write(f"{',' if at else ''}{rows[1:-3]}")  # without the list's own brackets
            file.write("\n ]" if len(table) else "")
        file.write("\n}\n" if facts or tables else "}\n")


def _indented(value: Any) -> str:
    """Return a value's JSON, indented one level further; line breaks inside texts are escaped, so
    every one found is layout.
    """
    return json.dumps(value, ensure_ascii=False, indent=1, allow_nan=False).replace("\n", "\n ")


def json_rows(frame: pd.DataFrame, decimals: int) -> list[dict[str, Any]]:
    """Return the rows as plain JSON values: money rounded to its decimals, dates as ISO text, nulls
    as None.
    """
    import pandas as pd

    columns = {}
    for name, values in frame.items():
        if values.dtype.kind == "M":
            values = values.dt.strftime("%Y-%m-%d")
        elif (places := decimals_of(frame, name, decimals)) is not None:
            values = pd.Series(_in_units(values, places), index=values.index)
        columns[name] = values.astype(object).where(values.notna(), None)
    rows: Any = pd.DataFrame(columns, index=frame.index).to_dict("records")
    return list(rows)


def _in_units(values: pd.Series[Any], decimals: int) -> np.ndarray[Any, np.dtype[np.float64]]:
    floats = values.to_numpy(dtype=np.float64, na_value=np.nan)
    known = ~np.isnan(floats)
    out = np.full(len(floats), np.nan)
    out[known] = to_minor(floats[known], decimals) / 10**decimals
    return out

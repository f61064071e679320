"""The base of all answers: tables, facts, and writing to any kind of file."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fairladder.output.files import as_json, csv_text, frame_of, made_safe, write
from fairladder.output.notebook import Piece, as_html
from fairladder.output.sheet import CsvStyle
from fairladder.output.targets import format_of, replacing

if TYPE_CHECKING:
    import pandas as pd

    from fairladder.output.files import Written


class Answer:
    """Base class of results with more than one table: ``frame``, the tables by name, and methods to
    write them.
    """

    if TYPE_CHECKING:  # a field in most subclasses, a property in some

        @property
        def frame(self) -> pd.DataFrame:
            """The main table."""
            ...

    def tables(self) -> "dict[str, pd.DataFrame]":
        """Return all tables by name, the main one first."""
        return {"frame": self.frame}

    def facts(self) -> dict[str, Any]:
        """Return plain values that belong with the tables; empty if there are none."""
        return {}

    def to_file(
        self,
        path: str | Path,
        *,
        part: str | None = None,
        decimals: int = 2,
        spreadsheet_safe: bool = False,
    ) -> None:
        """Write the tables as ``fairladder.write`` does: the main one, or ``part``, to CSV and
        Parquet, all to JSON and workbooks.

        Raises UsageError for an unknown suffix or part, or if the file cannot be written.
        """
        Result(self.tables(), self.facts() or None, decimals).to_file(
            path, part=part, spreadsheet_safe=spreadsheet_safe
        )

    def finding(self) -> str:
        """Return the result in a sentence; empty if there is none."""
        return ""

    def pieces(self) -> list[Piece]:
        """Return the tables that a notebook shows."""
        name, frame = next(iter(self.tables().items()))
        return [Piece(name, frame)]

    def _repr_html_(self) -> str:
        return as_html(self.finding(), self.pieces(), getattr(self, "notes", ()))


@dataclass(frozen=True)
class Result:
    """Tables by name, the main one first, with ``facts`` for every kind of file."""

    parts: "Mapping[str, Written]"
    facts: Mapping[str, Any] | None = None
    decimals: int = 2
    csv: CsvStyle = field(default_factory=CsvStyle)
    whole: Mapping[str, Any] | None = field(default=None, repr=False)
    """The content of a JSON file, if it is more than the facts and all tables."""

    def chosen(self, part: str | None) -> str:
        """Return the name of the table for a file with a single one."""
        return part or next(iter(self.parts))

    def to_file(
        self, path: str | Path, *, part: str | None = None, spreadsheet_safe: bool = False
    ) -> None:
        """Write to the kind of file of the suffix, all or nothing."""
        if self.whole is not None and part is None and format_of(path) == "json":
            with replacing(path) as temporary:
                temporary.write_text(as_json(self.whole), "utf-8")
            return
        write(
            self.parts, path, part=part, decimals=self.decimals, facts=self.facts,
            spreadsheet_safe=spreadsheet_safe, csv=self.csv,
        )  # fmt: skip

    def as_csv(self, part: str | None = None, *, spreadsheet_safe: bool = False) -> str:
        """Return the CSV of one table."""
        table = self.parts[self.chosen(part)]
        return csv_text(
            made_safe(frame_of(table)) if spreadsheet_safe else table, self.decimals, self.csv
        )

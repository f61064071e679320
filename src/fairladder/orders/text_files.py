"""Detect the format of text files from a sample: encoding, separator, quote and header row."""

import codecs
import csv
import io
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import pyarrow as pa

from fairladder.errors import DataError, UsageError, shortened
from fairladder.orders.headers import require_names, two_rows

#: Bytes of the sample.
SAMPLE_BYTES = 1 << 20
#: Up to this size the whole file is used to detect the encoding; in larger files a stray byte is a
#: later error.
READ_WHOLE_BYTES = 64 << 20
SEPARATORS = (",", ";", "\t", "|")
COMPRESSED = {".gz": "gzip", ".zst": "zstd"}
#: Maximum length of a cell, and so of a line.
LONGEST_LINE = 64 << 20
_MARKS = (
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)


@dataclass(frozen=True)
class Writing:
    """The format of a text file."""

    encoding: str
    separator: str
    quote: str
    header_row: int
    """Line number of the header, from 1; 0 if there is none."""
    names: tuple[str, ...]
    is_plain_utf8: bool
    """True if the engine can read the file directly: UTF-8, uniform line ends, the header in the
    first line.
    """
    evidence: str = ""
    """The evidence for the encoding, if it was detected."""
    two_rows: bool = False
    """True if the names combine that line and the one above it."""
    last_line: int = 0
    """Length of the last line in bytes; the engine would silently lose a very long one."""


def writing_of(
    path: Path,
    *,
    encoding: str | None = None,
    separator: str | None = None,
    header_row: int | None = None,
) -> Writing:
    """Detect a file's format; given values are used unchanged.

    Raises DataError if it is not text or has no header, UsageError for an unknown encoding.
    """
    sample = _sample(path, SAMPLE_BYTES)
    whole = len(sample) < SAMPLE_BYTES
    if encoding is not None:
        _known_encoding(encoding)
        if codecs.lookup(encoding).name == "utf-8" and sample.startswith(codecs.BOM_UTF8):
            encoding = "utf-8-sig"  # the byte order mark is not part of the first name
        elif codecs.lookup(encoding).name == "utf-16" and not sample.startswith(
            (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)
        ):
            encoding = _order_of_bytes(sample)
    given_encoding, evidence = encoding, ""
    encoding = encoding or _encoding(sample, whole, path)
    if (
        not given_encoding
        and encoding in ("utf-8", "")
        and not whole
        and path.stat().st_size <= READ_WHOLE_BYTES
    ):
        everything = _sample(path, 20 * READ_WHOLE_BYTES)
        encoding = _encoding(everything, True, path)
        evidence = "" if encoding else _detected(everything, path)[1]
        encoding = encoding or _detected(everything, path)[0]
    elif not encoding:
        encoding, evidence = _detected(sample, path)
    text = _decoded(sample, encoding, whole, path)
    if "\0" in text:
        raise DataError(
            f"{str(path)!r} contains null bytes, so it is not a text file. Is it a "
            "spreadsheet or a database saved as text?"
        )
    lines = text if whole else text[: text.rfind("\n") + 1] or text
    quote = "'" if lines.lstrip().startswith("'") and '"' not in lines[:200] else '"'
    separator = separator or _separator(lines, quote)
    rows = _rows(lines, separator, quote)
    at = _header_row(rows) if header_row is None else header_row
    header = next((cells for line, cells in rows if line == at), [])
    if at == 0 and rows:
        header = [f"column {i}" for i in range(1, max(len(cells) for _, cells in rows) + 1)]
    below = next((i for i, (line, _) in enumerate(rows) if line == at), 0)
    both = two_rows([cells for _, cells in rows], below) if header_row is None else None
    if both is not None:
        at, header = rows[both[0]][0], both[1]
    if not any(name.strip() for name in header):
        raise DataError(f"Line {at} of {str(path)!r} is blank. It should contain the column names.")
    if header_row is None and both is None:
        require_names(
            header,
            [cells for line, cells in rows if line >= at],
            [cells for line, cells in rows if line < at],
            str(path),
            at,
        )
    # A separator at the end of each line makes a column without a name.
    names = tuple(name.strip() or f"column {i}" for i, name in enumerate(header, start=1))
    pairs, bare = lines.count("\r\n"), lines.replace("\r\n", "")
    mixed = ("\r" in bare) + ("\n" in bare) + (pairs > 0) > 1
    plain = encoding in ("utf-8", "utf-8-sig") and at <= 1 and not mixed
    return Writing(
        encoding, separator, quote, at, names, plain, evidence, both is not None, _last_line(path)
    )


def as_utf8(path: Path, writing: Writing, target: Path) -> None:
    """Rewrite the file in UTF-8, unpacked, with uniform line ends, from its header on.

    Raises DataError if a byte does not fit the encoding.
    """
    encoding = writing.encoding
    decode = io.IncrementalNewlineDecoder(
        codecs.getincrementaldecoder(encoding)(errors="strict"), translate=True
    )
    with opened(path) as source, target.open("wb") as out:
        done, above = 0, max(writing.header_row - 1, 0)
        while True:
            block = source.read(SAMPLE_BYTES)
            try:
                text = decode.decode(block, final=not block)
            except UnicodeDecodeError as error:
                raise DataError(
                    f"{str(path)!r} is not {encoding} throughout: byte {done + error.start:,} "
                    "does not fit. Save it in UTF-8."
                ) from None
            while above and "\n" in text:
                text, above = text.partition("\n")[2], above - 1
            out.write(b"" if above else text.encode("utf-8"))
            done += len(block)
            if not block:
                return


def opened(path: Path) -> pa.NativeFile:
    """Open the file for reading, unpacked."""
    return pa.input_stream(str(path), compression=COMPRESSED.get(path.suffix.lower()))


def _last_line(path: Path) -> int:
    """Return the number of bytes after the last line end, ignoring one at the very end."""
    if path.suffix.lower() in COMPRESSED:
        length = 0
        with opened(path) as file:
            while block := file.read(SAMPLE_BYTES):
                *ended, rest = bytes(block).removesuffix(b"\n").rsplit(b"\n", 1)
                length = len(rest) + (0 if ended else length)
        return length
    size, step = path.stat().st_size, SAMPLE_BYTES
    with path.open("rb") as file:
        while step < size:
            file.seek(-step, 2)
            tail = file.read(step).rstrip(b"\r\n")
            if (at := max(tail.rfind(b"\n"), tail.rfind(b"\r"))) >= 0:
                return len(tail) - at - 1
            step *= 8
    return size if size > SAMPLE_BYTES else 0


def _sample(path: Path, size: int) -> bytes:
    try:
        with opened(path) as file:
            return bytes(file.read(size))
    except OSError as error:
        raise DataError(
            f"{str(path)!r} cannot be unpacked: {str(error).splitlines()[0]}."
        ) from None


def _encoding(sample: bytes, whole: bool, path: Path) -> str:
    for mark, name in _MARKS:
        if sample.startswith(mark):
            return name
    zeros = sample.count(0)
    if zeros and zeros * 5 > len(sample):  # two-byte letters without a byte order mark
        return _order_of_bytes(sample)
    if zeros or sample.startswith((b"PK", b"\x7fELF", b"%PDF", b"\xd0\xcf\x11\xe0")):
        raise DataError(
            f"{str(path)!r} is not a text file, despite its name. Export the orders as CSV, "
            "or correct the suffix."
        )
    try:
        codecs.getincrementaldecoder("utf-8")().decode(sample, final=whole)
    except UnicodeDecodeError:
        return ""
    return "utf-8"


def _order_of_bytes(sample: bytes) -> str:
    """Return UTF-16 with its byte order for text without a mark, if mostly the first or the second
    bytes are zero.
    """
    return "utf-16-be" if sample[::2].count(0) * 2 > sample.count(0) else "utf-16-le"


def _known_encoding(name: str) -> None:
    """Raise UsageError for an unknown text encoding."""
    try:
        is_text = codecs.lookup(name)._is_text_encoding
    except (LookupError, ValueError):
        is_text = False
    if not is_text or name.lower().replace("-", "_") in (
        "undefined",
        "idna",
        "punycode",
        "unicode_escape",
        "raw_unicode_escape",
    ):
        raise UsageError(
            f"There is no encoding {shortened(name, 40)!r}; utf-8, utf-16, cp1252 and latin-1 are "
            "common ones."
        )


def _detected(sample: bytes, path: Path) -> tuple[str, str]:
    """Return the encoding of text that is not Unicode, with the evidence; raise a question if it is
    ambiguous.
    """
    from fairladder.orders.encodings import detected

    detection = detected(sample)
    if detection is None:
        raise DataError(
            f"{path.name!r} is not UTF-8, and its letters fit no language in any encoding "
            "that was tried. Set `encoding`, or save it in UTF-8."
        )
    if detection.rival is not None:
        raise DataError(
            f"{path.name!r} is not UTF-8, and its letters can be read in two ways: "
            f"`{shortened(detection.words[0], 40)}` as {detection.encoding}, "
            f"`{shortened(detection.words[1], 40)}` as {detection.rival}. Choose with "
            "`encoding`."
        )
    return detection.encoding, detection.evidence


def _decoded(sample: bytes, encoding: str, whole: bool, path: Path) -> str:
    try:
        return codecs.getincrementaldecoder(encoding)().decode(sample, final=whole)
    except LookupError:
        raise UsageError(
            f"There is no encoding {encoding!r}; utf-8, utf-16, cp1252 and latin-1 are common ones."
        ) from None
    except UnicodeError as error:
        at = (
            f"byte {error.start:,} does not fit"
            if isinstance(error, UnicodeDecodeError)
            else "its bytes do not fit"
        )
        raise DataError(f"{str(path)!r} is not {encoding}: {at}. Try another `encoding`.") from None


def _rows(text: str, separator: str, quote: str) -> list[tuple[int, list[str]]]:
    """Return the first rows with their line numbers."""
    csv.field_size_limit(LONGEST_LINE)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator, quotechar=quote)
    rows, line = [], 1
    try:
        for cells in reader:
            rows.append((line, cells))
            line = reader.line_num + 1
            if len(rows) >= 200:
                break
    except csv.Error:
        pass  # the engine will report where
    return rows


def _separator(text: str, quote: str) -> str:
    """Return the separator that splits most rows into the same number of cells, more than one."""

    def fit(separator: str) -> tuple[int, int]:
        widths = Counter(len(cells) for _, cells in _rows(text, separator, quote) if any(cells))
        width, count = widths.most_common(1)[0] if widths else (1, 0)
        return (count if width > 1 else 0, width)

    return max(SEPARATORS, key=fit)


def _header_row(rows: list[tuple[int, list[str]]]) -> int:
    """Return the first row that is as wide as most rows and mostly filled; lines above it are a
    title or comments.
    """
    widths = Counter(len(cells) for _, cells in rows if any(cells))
    width = widths.most_common(1)[0][0] if widths else 1
    for line, cells in rows[:30]:
        filled = sum(bool(cell.strip()) for cell in cells)
        if len(cells) == width and filled * 10 >= width * 6:
            return line
    return next((line for line, cells in rows if any(cell.strip() for cell in cells)), 1)

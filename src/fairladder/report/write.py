"""Write the report's files, all or nothing."""

import datetime as dt
import hashlib
import secrets
from pathlib import Path

from fairladder.book.read import Read
from fairladder.errors import UsageError
from fairladder.output.targets import replacing
from fairladder.report.contents import Contents, contents_of
from fairladder.report.page import Made, page_of
from fairladder.report.pseudonyms import require_no_person, with_pseudonyms
from fairladder.report.workbook import save_workbook
from fairladder.steps import Progress


def prepared(
    orders: Read, *, then: str | dt.date | None = None, by: str | None = None,
    pseudonyms: bool = False, pseudonym_key: bytes | None = None,
    progress: Progress | None = None,
) -> Contents:  # fmt: skip
    """Return the contents of a report, with pseudonyms and without names if ``pseudonyms``.

    Equal keys give equal pseudonyms; without a ``pseudonym_key`` a random one is used, and the pseudonyms can
    never be linked to ids. Raises UsageError for a key of under 16 bytes, as ``contents_of`` does,
    and as ``with_pseudonyms`` does.
    """
    if pseudonym_key is not None and len(pseudonym_key) < 16:
        raise UsageError(
            f"A key for pseudonyms has at least 16 bytes, this one {len(pseudonym_key)}: shorter ones can "
            "be guessed."
        )
    if pseudonyms or pseudonym_key is not None:
        require_no_person(orders, by)
    about = contents_of(orders, then=then, by=by, progress=progress)
    return (
        with_pseudonyms(about, pseudonym_key or secrets.token_bytes(32))
        if pseudonyms or pseudonym_key is not None
        else about
    )


def write_html(
    orders: Read, path: str | Path, *, then: str | dt.date | None = None, by: str | None = None,
    pseudonyms: bool = False,
    pseudonym_key: bytes | None = None, title: str | None = None,
) -> None:  # fmt: skip
    """Write the report of these orders as one self-contained page without network access.

    Parameters
    ----------
    then
        The day to compare with; by default a year or a quarter ago, if the history reaches back.
    by
        A column to follow new customers by; by default the channel, if there is one.
    pseudonyms
        Omit names and all columns of the customers file, and write pseudonyms instead of ids.
    pseudonym_key
        Secret key of the pseudonyms, at least 16 bytes: equal keys give equal pseudonyms.
    title
        The page's title; by default it names the source of the orders.

    Raises DataError if no customer has a purchase, UsageError for an unknown column or day, a
    short key, or if the file cannot be written.
    """
    target = _ending(path, ".html")
    about = prepared(orders, then=then, by=by, pseudonyms=pseudonyms, pseudonym_key=pseudonym_key)
    save(about, target, Made("fairladder.report.write_html", digests_of(orders)), title)


def write_workbook(
    orders: Read, path: str | Path, *, then: str | dt.date | None = None, by: str | None = None,
    pseudonyms: bool = False,
    pseudonym_key: bytes | None = None, title: str | None = None,
) -> None:  # fmt: skip
    """Write the report as a workbook of twelve sheets; parameters and errors are those of
    ``write_html``.
    """
    target = _ending(path, ".xlsx")
    about = prepared(orders, then=then, by=by, pseudonyms=pseudonyms, pseudonym_key=pseudonym_key)
    save(about, target, Made("fairladder.report.write_workbook", digests_of(orders)), title)


def _ending(path: str | Path, wanted: str) -> Path:
    if Path(path).suffix.lower() != wanted:
        raise UsageError(f"{str(path)!r}: end the name in {wanted}.")
    return Path(path)


def save(about: Contents, path: str | Path, made: Made, title: str | None = None) -> None:
    """Write gathered contents as a workbook (``.xlsx``) or a page (any other suffix)."""
    workbook = Path(path).suffix.lower() == ".xlsx"
    title = title or about.title
    text = "" if workbook else page_of(about, made, title)
    with replacing(path) as temporary:
        if workbook:
            save_workbook(about, temporary, made, title)
        else:
            temporary.write_text(text, "utf-8")


def digests_of(orders: Read) -> dict[str, str]:
    """Return file name (or path, if names are equal) → SHA-256 of its contents, for every file that
    was read.
    """
    made, names = {}, [path.name for path in orders.input_files]
    for path in orders.input_files:
        with path.open("rb") as file:
            made[path.name if names.count(path.name) == 1 else str(path)] = hashlib.file_digest(
                file, "sha256"
            ).hexdigest()
    return made

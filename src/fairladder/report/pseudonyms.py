"""Replace ids by pseudonyms in a report, and omit everything that could name a person."""

import base64
import hmac
import re
from collections.abc import Collection
from dataclasses import replace
from pathlib import Path

from fairladder import columns
from fairladder.book.read import Read
from fairladder.errors import UsageError
from fairladder.findings import Finding
from fairladder.report.contents import Contents
from fairladder.report.customers import MOST_GROUPS
from fairladder.scheme import Scheme

#: Names are searched for with up to this many words.
_LONGEST_NAME = 5
#: Groups with fewer customers are omitted, since they could point to a person.
_FEWEST = 5


def require_no_person(orders: Read, by: str | None) -> None:
    """Raise UsageError if new customers would be followed by an id or a name."""
    roles = orders.roles
    of_people = {"customer", "name", "order"}
    of_people |= {c for c in (roles.get(r) for r in ("customer", "name", "order")) if c}
    if by in {*of_people, *orders.scheme.own_names()}:
        raise UsageError(
            f"--by {by} names customers or orders, which pseudonyms are to hide. Choose another "
            "column."
        )


def with_pseudonyms(about: Contents, key: bytes) -> Contents:
    """Return the contents with pseudonyms for ids and without any column, example, setting or row
    that could name a person.

    A pseudonym is the first 60 bits of HMAC-SHA-256 of the id with ``key``, in letters. Equal keys
    give equal pseudonyms, which cannot be reversed without the key. Groups of few customers are
    omitted. Raises UsageError if a segment or tier has the name of a customer, or new customers are
    followed by a column with ids, names or very many values.
    """
    ids = about.customers["customer"].tolist()
    of = {given: pseudonym(given, key) for given in {*ids, *about.strips["customer"].tolist()}}
    people = {*ids, *(about.customers["name"].dropna() if "name" in about.customers else ())}
    _require_nobody_named(about, people)
    scheme = _without_people(about.scheme, people)
    known = {
        *columns.names(columns.CUSTOMERS),
        *columns.names(columns.SCORES),
        *columns.names(columns.FORECAST),
    }
    kept = [c for c in about.customers if (c in known and c != "name") or c in about.scheme.tiers]
    customers = about.customers[kept].assign(customer=[of[i] for i in ids])
    checked = replace(
        about.checked,
        findings=tuple(_without_examples(f, people) for f in about.checked.findings),
        set_aside=about.checked.set_aside[["row", "reason"]].copy(),
    )
    changes = about.changes
    if changes is not None:
        movers = changes.movers.drop(columns="name", errors="ignore")
        changes = replace(
            changes, movers=movers.assign(customer=[pseudonym(i, key) for i in movers["customer"]])
        )
    rules = {s.name: s.when for s in scheme.segments if s.when is not None}
    conditions = [
        rules.get(segment, condition)
        for segment, condition in zip(about.rules["segment"], about.rules["condition"], strict=True)
    ]
    grown_by, spells = about.grown_by, about.spells
    if grown_by is not None and about.by is not None:
        sums = grown_by.groupby(about.by)["new_customers"].sum()
        large = set(sums[sums >= _FEWEST].index.astype(str))
        grown_by, spells = (
            t[t[t.columns[at]].astype(str).isin(large)].reset_index(drop=True)
            for t, at in ((grown_by, grown_by.columns.get_loc(about.by)), (spells, 0))
        )
    return replace(
        about,
        facts={**about.facts, "source": Path(about.name).name},
        scheme=scheme,
        customers=customers.sort_values("customer", ignore_index=True),
        rules=about.rules.assign(condition=conditions),
        checked=checked,
        changes=changes,
        grown_by=grown_by,
        spells=spells,
        notes=tuple(n for n in about.notes if not _names_one(n, people)),
        plan=replace(about.plan, group_of=about.plan.group_of.rename(index=of)),
        strips=about.strips.assign(customer=[of[i] for i in about.strips["customer"]]),
        pseudonyms=True,
    )


def _require_nobody_named(about: Contents, people: Collection[str]) -> None:
    tiers = about.scheme.tiers
    names = {
        *(s.name for s in about.scheme.segments),
        *(n for t in tiers.values() for n in t.names()),
    }
    if named := sorted(names & set(people)):
        raise UsageError(
            f"The segment or tier `{named[0]}` has the name of a customer, which pseudonyms are to "
            "hide. Rename it."
        )
    if about.grown_by is not None and about.by is not None:
        groups = set(about.grown_by[about.by].dropna().astype(str))
        if len(groups) > MOST_GROUPS or groups & set(people):
            raise UsageError(
                f"--by {about.by}: its values are ids or names of customers, or too many to hide "
                "them. Choose another column."
            )


def _without_people(scheme: Scheme, people: Collection[str]) -> Scheme:
    """Return the scheme with all quoted texts hidden in conditions that name people, or could."""
    own = {"customer", "name", *scheme.own_names()}

    def hidden(condition: str | None) -> str | None:
        if condition is None:
            return None
        texts = re.findall(r"'((?:[^']|'')*)'", condition)
        words = set(re.findall(r"\w+", condition))
        if (
            words & own
            or any(o in condition for o in own if not o.isidentifier())
            or any(text in people for text in texts)
        ):
            return re.sub(r"'(?:[^']|'')*'", "'…'", condition)
        return condition

    segments = tuple(s.model_copy(update={"when": hidden(s.when)}) for s in scheme.segments)
    return scheme.model_copy(update={"segments": segments})


def _without_examples(finding: Finding, people: Collection[str]) -> Finding:
    """Return a finding without examples, and without its text if that names a customer."""
    effect, advice = (
        "omitted, since it names customers" if _names_one(text, people) else text
        for text in (finding.effect, finding.advice)
    )
    return replace(finding, examples=(), effect=effect, advice=advice)


def _names_one(text: str, people: Collection[str]) -> bool:
    """Return True if an id or a name occurs in a text, in backticks or as words that are not just a
    number.
    """
    if any(quoted in people for quoted in re.findall(r"`([^`]*)`", text)):
        return True
    words = re.findall(r"[^\s`,;:()'\"]+", text)
    runs = (
        " ".join(words[i : i + n]).rstrip(".")
        for i in range(len(words))
        for n in range(1, _LONGEST_NAME + 1)
    )
    return any(run in people and not run.isdecimal() for run in runs)


def pseudonym(given: str, key: bytes) -> str:
    """Return twelve letters and digits that replace an id."""
    return base64.b32encode(hmac.digest(key, given.encode(), "sha256")[:8]).decode()[:12]

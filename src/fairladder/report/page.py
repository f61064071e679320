"""Write the page: one self-contained HTML file, from templates with every text escaped."""

import base64
import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from importlib.metadata import version
from importlib.resources import files
from typing import Any

import pandas as pd
from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup, escape

from fairladder import columns, wording
from fairladder.frames import rows_of
from fairladder.ladder import Ladder
from fairladder.report import charts, figures
from fairladder.report import customers as table_of_customers
from fairladder.report.answer import confidence, gain, key_figure_words, left_alone, no_advice, who
from fairladder.report.contents import Contents
from fairladder.scores.fitting import SCORES

#: Customers in the table that is shown without JavaScript and in print.
STILL = 50
_MOVES = 8
_PARTS = (
    ("answer", "What to do"), ("segments-part", "Segments"), ("changes-part", "What changed"),
    ("history", "Growth and retention"), ("worth-part", "Worth"),
    ("customers-part", "The customers"), ("trust", "Data quality"), ("made", "Method"),
)  # fmt: skip
#: Actions for the customers of a stance.
ADVICE = {
    "keep": "look after them",
    "grow": "lead them to the next order",
    "welcome": "make the first days good",
    "win-back": "contact them",
    "leave": "spend nothing on them",
}
_LEVELS = ("error", "warning", "note")


@dataclass(frozen=True)
class Made:
    """How a report was made: the command, and a digest of each file that was read."""

    command: str
    digests: Mapping[str, str]


def page_of(about: Contents, made: Made, title: str) -> str:
    """Return the page as HTML."""
    style, script = _resource("style.css"), _resource("page.js")
    shown = table_of_customers.shown(about)
    return _environment().get_template("page.html").render(
        title=title, version=version("fairladder"), style=style, script=script,
        style_hash=_hash(style), script_hash=_hash(script),
        as_of_line=wording.as_of_line(about.as_of, about.facts["as_of_from"]),
        source=about.facts["source"], currency=about.currency, pseudonyms=about.pseudonyms,
        parts=_PARTS, key=_key_figures(about), segments=figures.segments(about),
        no_advice=no_advice(about), actions=_actions(about, len(shown)),
        leave=left_alone(about) if about.plan.leave is not None else None,
        basis=about.plan.basis, confidence=confidence(about),
        **_trust(about), rules=_rules(about), scores=_scores(about),
        ladders=[f for f in figures.ladders(about) if f.name in _uneven(about)],
        tiers=_tiers(about),
        concentration=figures.concentration(about), revenue=figures.revenue(about),
        newcomers=figures.newcomers(about),
        cohorts=_cohorts(about), how_far=figures.how_far(about), **_worth(about),
        changes=_changes(about),
        change=figures.change(about), customers=_customers(about, shown), made=_made(about, made),
        settings=_settings(about), words=_words(about),
        block=table_of_customers.block(about, shown),
    )  # fmt: skip


def _key_figures(about: Contents) -> dict[str, Any]:
    key = about.key_figures
    compared = f", compared with {key.compared}" if key.compared else ""
    return {
        "period": f"{key.period}{compared}.",
        "figures": [
            {
                "name": f.name,
                "value": key_figure_words(about, f),
                "change": f.change_in_words,
                "up": f.change > 0,
                "definition": f.definition,
                "spark": charts.spark(f.history),
                "history": ", ".join(map(f.words_of, f.history)),
            }
            for f in key.figures
        ],
    }


def _actions(about: Contents, on_page: int) -> list[dict[str, Any]]:
    """Return the actions; their lists can be saved if the page includes all customers."""
    return [
        {
            "name": a.name, "title": a.title, "stance": a.stance, "who": who(a), "why": a.why,
            "gain": gain(about, a), "saved": on_page == len(about.customers),
        }
        for a in about.plan.actions
    ]  # fmt: skip


#: A ladder is drawn if a rung has this share of customers more or fewer than requested.
_UNEVEN = 0.05


def _uneven(about: Contents) -> set[str]:
    """Return the names of the figures of ladders that ties make uneven."""
    return {
        f"ladder-{name.removesuffix('_score')}"
        for name in SCORES
        if isinstance(ladder := about.ladders[name], Ladder) and ladder.size_deviation > _UNEVEN
    }


def _scores(about: Contents) -> dict[str, Any]:
    """Return the values on each rung of the three scores, best rung first."""
    lines = figures.rung_lines(about)
    most = max(map(len, lines.values()))
    rows = []
    for name, rungs in lines.items():
        label = f"{name.replace('_', ' ')}, by {SCORES[name][0].replace('_', ' ')}"
        unit = f", {about.currency}" if name == "monetary_score" and about.currency else ""
        values = [what for _, what, _, _ in rungs]
        rows.append((f"{label}{unit}", *values, *[""] * (most - len(values))))
    return {"columns": ("score", *(f"rung {r}" for r in range(most, 0, -1))), "rows": rows}


@cache
def _environment() -> Environment:
    made = Environment(
        loader=PackageLoader("fairladder.report"), autoescape=True, undefined=StrictUndefined,
        trim_blocks=True,
        finalize=lambda v: wording.plain(v) if isinstance(v, str) and not hasattr(v,
        "__html__") else v,
    )  # fmt: skip
    made.filters["code"] = _with_code
    return made


def _with_code(text: str) -> Markup:
    """Format a text, with parts in backticks as code."""
    parts = wording.plain(text).split("`")
    if len(parts) % 2 == 0:  # single segments have no other one
        return escape("`".join(parts))
    return Markup("").join(
        Markup("<code>{}</code>").format(p) if i % 2 else escape(p) for i, p in enumerate(parts)
    )


def _resource(name: str) -> Any:
    """Return a style sheet or a script of ours, to be inserted unchanged."""
    return Markup(files("fairladder.report").joinpath("templates", name).read_text("utf-8"))


def _hash(text: str) -> str:
    """Return the hash by which the content security policy allows the style sheet and the
    script.
    """
    return base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()


def _trust(about: Contents) -> dict[str, Any]:
    found = sorted(about.checked.findings, key=lambda f: _LEVELS.index(f.level))
    errors = [f for f in found if f.level == "error"]
    warnings = sum(f.level == "warning" for f in found)
    lines = []
    for f in found:
        text = f"{f.effect[0].upper()}{f.effect[1:]}{'' if f.effect.endswith('.') else '.'}"
        examples = f" For example {', '.join(f.examples[:2])}." if f.examples else ""
        advice = f.advice if f.level != "note" else ""
        finding_row = {"level": f.level, "code": f.code, "text": text + examples, "advice": advice}
        lines.append({**finding_row, "count": wording.count(f.count)})
    notes = len(found) - len(errors) - warnings
    heading = wording.counted(len(errors), "errors") if errors else "No errors"
    few = "" if not errors else (
        f"{wording.counted(len(errors), 'findings', 'have')} to be resolved before these "
        "numbers count: "
        + " ".join(f"{f.effect.rstrip('.')}." for f in errors)
    )  # fmt: skip
    return {
        "balance": figures.balance(about), "errors": few[0].upper() + few[1:] if few else "",
        "reasons": [(reason, wording.count(n)) for reason,
        n in about.checked.balance.reasons.items()],
        "findings": _folded(lines),
        "findings_title": f"{heading}, {wording.counted(warnings, 'warnings')} and {wording.counted(notes, 'notes')}",
        "notes": about.notes,
        "notes_title": f"{wording.counted(len(about.notes), 'notes')} on how the numbers were made",
    }  # fmt: skip


def _folded(lines: list[dict[str, str]]) -> list[dict[str, Any]]:
    """Return errors and warnings, then the notes, which are folded."""
    notes = [line for line in lines if line["level"] == "note"]
    serious = [line for line in lines if line["level"] != "note"]
    title = f"Show {wording.counted(len(notes), 'notes')}"
    groups = [{"title": "", "folded": False, "rows": serious},
              {"title": title, "folded": True, "rows": notes}]  # fmt: skip
    return [group for group in groups if group["rows"]]


def _rules(about: Contents) -> list[dict[str, str]]:
    stances = dict(zip(about.segments["segment"], about.segments["stance"], strict=True))
    return [
        {"segment": r.segment, "stance": stances[r.segment], "advice": ADVICE[stances[r.segment]],
         "rule": "all other customers" if r.condition == "otherwise" else r.condition,
         "placed": wording.count(r.placed)}
        for r in rows_of(about.rules)
    ]  # fmt: skip


def _tiers(about: Contents) -> list[dict[str, Any]]:
    made = []
    for name, tier in about.scheme.tiers.items():
        own = about.tiers[about.tiers["tier"] == name]
        shares = [
            (wording.percent(t.customer_share), wording.percent(t.spend_share))
            for t in rows_of(own)
        ]
        rows = [
            (t.label, wording.count(t.customers), people, wording.money(t.spend), spend)
            for t, (people, spend) in zip(rows_of(own), shares, strict=True)
        ]
        within = f" within each {tier.within}" if tier.within else ""
        best, many = own.iloc[0], wording.counted(own["customers"].iloc[0], "customers")
        title = f"Tier {name} by {tier.of.replace('_', ' ')}{within}: {best['label']} are {many} with {shares[0][1]} of spend"
        made.append({"title": title, "rows": rows})
    return made


#: Number of cohorts, and of periods after the first, that are shown.
_MOST_COHORTS, _MOST_K = 16, 12


def _cohorts(about: Contents) -> dict[str, Any]:
    made = about.cohorts
    wide = made.wide().tail(_MOST_COHORTS)
    ks: list[Any] = [k for k in wide.columns if k != "size" and int(str(k)) <= _MOST_K]
    most = max((wide[k].max() for k in ks if k > 0 and wide[k].notna().any()), default=0.0) or 1.0
    rows = [
        {
            "name": str(name),
            "size": wording.count(row["size"]),
            "cells": [_shaded(row[k], k, float(most)) for k in ks],
        }
        for name, row in wide.iterrows()
    ]
    average = made.average()
    known = 1 in average.index and not wording.missing(float(average[1]))
    finding = f"No cohort has a complete next {made.period} yet"
    if known:
        finding = f"{wording.percent(average[1])} of a cohort buy in the next {made.period}"
    left = (
        f" The latest {_MOST_COHORTS} of {len(made.wide())} cohorts."
        if len(made.wide()) > _MOST_COHORTS
        else ""
    )
    return {
        "finding": finding,
        "shows": f"Customers by the {made.period} of their first purchase: percentage active this "
        f"many {made.period}s after it; a stronger shade is more.{left}",
        "columns": ["cohort", "size", *(str(k) for k in ks)], "rows": rows,
        "rates": [str(made.repeat_retention), str(made.cohort_retention)],
    }  # fmt: skip


def _shaded(share: Any, k: int, most: float) -> tuple[str, str]:
    """Return the percentage without a sign, and the class of its shade; none for the first period,
    in which all are active.
    """
    if wording.missing(share):
        return "", ""
    shade = f" s{min(int(5 * share / most), 4)}" if k else ""
    return f"{100 * share:.0f}", shade


def _worth(about: Contents) -> dict[str, Any]:
    names = {"formula": "formula value", "forecast": "forecast"}
    gaps = [
        f"There is no {names[part]}: {why}" for part, why in about.gaps.items() if part in names
    ]
    tested = about.forecast.backtest if about.forecast is not None else None
    ahead = [] if about.forecast is None else [about.forecast.of_range(), *about.forecast.notes]
    notes = [*(about.formula.notes if about.formula else ()), *ahead]
    rows = [] if tested is None else [
        (b.method, wording.money(b.orders), wording.money(b.actual_orders), wording.signed_percent(b.total_error),
        wording.signed_percent(b.value_error),
         f"{b.error:.3f}", wording.percent(b.top_found), wording.percent(b.coverage))
        for b in rows_of(tested.frame)
    ]  # fmt: skip
    columns = (
        "method",
        "expected",
        "actual",
        "off by",
        "error in value",
        "error each",
        "top 10 % found",
        "in range",
    )
    table = {"words": tested.in_words(), "rows": rows, "columns": columns} if tested else None
    return {
        "worth": figures.worth(about),
        "no_value": gaps,
        "tested": table,
        "value_notes": list(dict.fromkeys(notes)),
    }


def _changes(about: Contents) -> dict[str, Any]:
    moved = about.changes
    if moved is None:
        return {
            "title": "What changed?",
            "missing": about.gaps.get("changes", "There is no earlier day to compare with."),
        }
    flows = moved.frame[moved.frame["from_segment"] != moved.frame["to_segment"]]
    flows = flows.sort_values("customers", ascending=False, kind="stable")
    rows = [(m.from_segment, m.to_segment, wording.count(m.customers),
    wording.money(m.spend_before), wording.money(m.spend_after))
            for m in rows_of(flows.head(_MOVES))]  # fmt: skip
    finding = (
        f"Of the customers of both days {wording.count(moved.moved)} are in another segment: "
        f"the score of {wording.count(moved.rose)} of them has risen, that of "
        f"{wording.count(moved.fell)} has fallen. {wording.count(moved.returned)} of those who "
        "were to be won back or left alone have ordered again."
    )
    return {
        "title": f"What changed between {wording.day(moved.then)} and {wording.day(moved.now)}?",
        "missing": "",
        "finding": finding, "rows": rows,
    }  # fmt: skip


def _customers(about: Contents, shown: pd.DataFrame) -> dict[str, Any]:
    n, total = len(shown), len(about.customers)
    best = shown.sort_values(["spend", "customer"], ascending=[False, True], kind="stable").head(
        STILL
    )
    names = [
        c
        for c in (
            "customer",
            "name",
            "segment",
            *about.scheme.tiers,
            "orders",
            "last_order",
            "spend",
            "expected_value",
        )
        if c in best
    ]
    known = [columns.of_customers(c) for c in names]
    rows = [
        tuple(wording.cell(v, k.kind if k else None) for v, k in zip(row, known, strict=True))
        for row in best[names].astype(object).to_numpy()
    ]
    of = (
        ""
        if n == total
        else (
            f" Of {wording.count(total)} customers the page includes those with the largest spend."
        )
    )
    left = sum(k is None or k.kind in ("id", "text") for k in known)
    return {
        "title": "The customers", "names": "name" in shown, "left": left, "rows": rows,
        "columns": [k.title if k else c for c, k in zip(names, known, strict=True)],
        "shows": (f"{wording.counted(n, 'customers')} to search, sort and filter; click a customer's "
            f"id for details.{of}"),
        "still": (f"The {len(best)} with the largest spend of "
            f"{wording.counted(total, 'customers')}."),
    }  # fmt: skip


def _made(about: Contents, made: Made) -> list[tuple[str, str]]:
    digests = "; ".join(f"{name} {digest}" for name, digest in made.digests.items())
    return [
        *([] if about.pseudonyms else [("Command", made.command)]),
        ("As-of date", wording.as_of_line(about.as_of, about.facts["as_of_from"])),
        ("Rows", wording.rows_read(about.facts["balance"])),
        *([("SHA-256 of the files read", digests)] if digests and not about.pseudonyms else []),
        ("Version", f"fairladder {version('fairladder')}"),
    ]


def _settings(about: Contents) -> str:
    """Return the settings that differ from the defaults, as lines of a scheme."""
    if about.pseudonyms:
        return "Settings are omitted, since they can name customers and files."
    lines: list[str] = []
    for part, keys in about.scheme.settings().items():
        lines += (
            [f"[{part}]", *(f"{k} = {v}" for k, v in keys.items()), ""]
            if isinstance(keys, dict)
            else []
        )
    return "\n".join(lines).strip() or "All settings are defaults."


def _words(about: Contents) -> list[tuple[str, str]]:
    known = [(c, columns.of_customers(c)) for c in map(str, about.customers)]
    return [
        (k.title, f"{k.sentence}{f' Empty {k.nulls}.' if k.nulls else ''}")
        for c, k in known if k is not None and c not in about.customers.attrs.get(columns.CARRIED,
        ())
    ]  # fmt: skip

"""``fairladder demo``: copy the sample shop's files and run the whole workflow on them."""

import shutil
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from fairladder.cli.options import report_errors
from fairladder.errors import UsageError

if TYPE_CHECKING:
    from rich.text import Text

_SHOP_NAME = "Quillmoor Yarns"


def demo(
    folder: Annotated[
        Path, typer.Argument(help="Folder to create.", metavar="[FOLDER]", show_default=False)
    ] = Path("quillmoor"),
) -> None:
    """Copy the sample shop's files into a folder and run the whole workflow on them."""
    report_errors(lambda: _tour(folder))


def _tour(folder: Path) -> None:
    from rich.text import Text

    from fairladder.api import open_orders
    from fairladder.book.spend import bought
    from fairladder.cli import check, customers, door, score, screen
    from fairladder.output.files import write
    from fairladder.report.write import write_html
    from fairladder.scores import summary
    from fairladder.scores.fairness import too_few_to_advise
    from fairladder.scores.selection import chosen
    from fairladder.value.to_score import scored as scored_of

    _lay_out(folder)
    results = folder / "results"
    results.mkdir(exist_ok=True)
    orders_file, scheme_file = folder / "orders.csv", folder / "scheme.toml"
    orders = open_orders(orders_file, scheme=scheme_file)
    typed = f"{orders_file} --scheme {scheme_file}"

    def step(line: str) -> None:
        screen.show(Text(f"$ fairladder {line}", style="bold #2f9e8f"))

    screen.show(
        Text(
            f"{_SHOP_NAME}, an invented yarn studio: three years of orders, with the flaws of "
            "real exports."
        )
    )
    step(f"check {typed}")
    checked = orders.check()
    screen.show(*check.views(orders, checked))
    write(checked.set_aside, results / "set-aside.csv")
    step(f"customers {typed} --out {results / 'customers.csv'}")
    all_customers = orders.customers_here()
    best = all_customers.sort_values(["spend", "customer"], ascending=[False, True])
    sums = (
        int(all_customers["orders"].sum()),
        float(all_customers["spend"].sum()),
        float(all_customers["spend_share"].sum()),
    )
    screen.show(
        customers.view(best.head(12), int(bought(all_customers).sum()), len(all_customers), sums)
    )
    decimals, facts = orders.scheme.money.decimals, orders.facts()
    write(all_customers, results / "customers.csv", decimals=decimals, facts=facts)
    step(f"score {typed} --out {results / 'scored.csv'} --figure {results / 'segments.png'}")
    people = scored_of(orders)
    scored = chosen(orders, people).frame()
    parts = {
        "customers": scored,
        "segments": summary.segment_summary(people),
        "tiers": summary.tier_summary(people),
        "rules": summary.rule_coverage(people),
    }
    screen.show(
        *score.views(orders, parts, too_few_to_advise(people)),
        screen.footer(orders, orders.facts()),
    )
    write(scored, results / "scored.csv", decimals=decimals, facts=facts)
    write(scored, results / "scored.parquet", facts=facts)
    write(parts, results / "scored.json", decimals=decimals, facts=facts)
    for name in ("segments", "grid", "ladders", "concentration"):
        door.draw(results / f"{name}.png", score.figure(name, scored, orders))
    page = results / "report.html"
    step(f"report {typed} --out {page} --title '{_SHOP_NAME}'")
    write_html(orders, page, title=_SHOP_NAME)
    screen.show(_file_overview(folder, results, typed))
    screen.show(Text(f"Open the report in a browser: {page.resolve()}", style="bold"))


def _lay_out(folder: Path) -> None:
    from fairladder.demo import FILES, SHOP
    from fairladder.output.targets import replacing

    if folder.exists() and not folder.is_dir():
        raise UsageError(f"{str(folder)!r} is a file; name a folder for the example.")
    for name in FILES:
        target = folder / name
        if target.exists() and target.read_bytes() != (SHOP / name).read_bytes():
            raise UsageError(
                f"{str(target)!r} exists already and differs from the sample; name another folder."
            )
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name in FILES:
            with replacing(folder / name) as temporary:
                shutil.copyfile(SHOP / name, temporary)
    except OSError as error:
        raise UsageError(
            f"The folder {str(folder)!r} cannot be created: {error.strerror}."
        ) from error


def _file_overview(folder: Path, results: Path, typed: str) -> "Text":
    from rich.text import Text

    from fairladder.demo import FILES

    made = sorted(p.name for p in results.iterdir())
    text = (
        f" {folder}/: {', '.join(FILES)}\n {results}/: {', '.join(made)}\n\nOther ways to "
        "segment the same members: scheme-points.toml, scheme-cells.toml and "
        f"scheme-behaviour.toml.\nNext, change a rule in {folder / 'scheme.toml'} and run: "
        f"fairladder score {typed}\nOr ask what customers are worth, which to contact, and "
        f"who moved: fairladder value {typed}, the same with campaign instead of value, and "
        "with compare and --then 2025-12-31."
    )
    return Text.assemble(("Where to find everything\n", "bold"), text)

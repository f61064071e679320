"""Run every command and snippet of the guide and compare the output: ``python docs/guide.py``
(``--write`` updates the pages).

A block of kind ``console`` has commands after ``$`` with their output; ``<!-- head N -->`` before
it keeps the first lines, ``<!-- from WORDS -->`` the paragraph that begins with these words. Blocks
of kind ``python`` with ``>>>`` are doctests. The blocks of a page run one after the other in a
folder with the sample shop's files.
"""

import contextlib
import doctest
import io
import os
import re
import shlex
import sys
import tempfile
import traceback
from pathlib import Path

DOCS = Path(__file__).parent
PAGES = (
    "first-hour",
    "questions/check",
    "questions/customers",
    "questions/top",
    "questions/score",
    "questions/orders",
    "questions/growth",
    "questions/retention",
    "questions/breakdown",
    "questions/compare",
    "questions/explain",
    "ladders-and-rules",
    "forecasts",
    "campaigns",
    "every-night",
    "definitions",
)
BLOCK = re.compile(
    r"(?:<!-- ((?:head|from) [^\n]*) -->\n)?```(console|python)\n(.*?)```\n", re.DOTALL
)
os.environ.update(COLUMNS="96", TERM="dumb", NO_COLOR="1", OPENBLAS_NUM_THREADS="1")


class Screen(io.StringIO):
    """A text stream that claims to be a terminal."""

    def isatty(self):
        return True


def printed(command):
    """Return the output of a command, with notes and tables, on a terminal of 96 columns."""
    from fairladder.cli.app import main

    words = shlex.split(command)
    if words[0] == "echo":
        return f"{os.environ.pop('LAST_EXIT')}\n"
    if words[0] != "fairladder":
        raise SystemExit(f"the guide runs fairladder only, not {words[0]}")
    screen, notes, code = Screen(), Screen(), 0
    sys.argv = words
    with contextlib.redirect_stdout(screen), contextlib.redirect_stderr(notes):
        try:
            main()
        except SystemExit as end:
            code = end.code or 0
    os.environ["LAST_EXIT"] = str(code)
    lines = [line.rstrip() for line in (screen.getvalue() + notes.getvalue()).splitlines()]
    return "\n".join(lines).strip("\n") + "\n"


def shortened(text, kept):
    """Return the part of the output that a page shows."""
    if not kept:
        return text
    how, words = kept.split(" ", 1)
    lines = text.splitlines()
    if how == "head":
        return "\n".join([*lines[: int(words)], "…"]) + "\n" if len(lines) > int(words) else text
    first = next(i for i, line in enumerate(lines) if line.startswith(words))
    last = next((i for i in range(first, len(lines)) if not lines[i]), len(lines))
    return (
        "\n".join(
            [*(["…"] if first else []), *lines[first:last], *(["…"] if last < len(lines) else [])]
        )
        + "\n"
    )


def rewritten(block):
    kept, kind, body = block[1], block[2], block[3]
    if kind == "python":
        return block[0]
    commands = [line for line in body.splitlines() if line.startswith("$ ")]
    parts = []
    for command in commands:
        text = shortened(
            printed(command.removeprefix("$ ")), kept if "fairladder" in command else None
        )
        parts.append(f"{command}\n{text if text.strip() else ''}")
    mark = f"<!-- {kept} -->\n" if kept else ""
    return f"{mark}```console\n{''.join(parts)}```\n"


def snippets(text, page):
    """Run the page's Python; each block continues from the one before."""
    found = "\n".join(m[3] for m in BLOCK.finditer(text) if m[2] == "python")
    if not found:
        return 0
    test = doctest.DocTestParser().get_doctest(found, {}, page, page, 0)
    runner = doctest.DocTestRunner(optionflags=doctest.ELLIPSIS | doctest.NORMALIZE_WHITESPACE)
    runner.run(test)
    return runner.failures


def main(write):
    from fairladder.demo import FILES, SHOP

    wrong = 0
    for page in PAGES:
        path = DOCS / f"{page}.md"
        text = path.read_text("utf-8")
        with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
            for name in FILES:
                Path(name).write_bytes((SHOP / name).read_bytes())
            now = BLOCK.sub(rewritten, text)
            wrong += snippets(text, page)
        if write:
            path.write_text(now, "utf-8")
        elif now != text:
            wrong += 1
            old, new = text.splitlines(), now.splitlines()
            at = next(
                (i for i, (a, b) in enumerate(zip(old, new, strict=False)) if a != b),
                min(len(old), len(new)) - 1,
            )
            print(f"docs/{page}.md, line {at + 1} is\n {old[at]}\nand should be\n {new[at]}")
    return 1 if wrong else 0


if __name__ == "__main__":
    try:
        sys.exit(main("--write" in sys.argv[1:]))
    except Exception:
        traceback.print_exc()
        sys.exit(1)

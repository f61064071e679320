"""The report that an analyst hands on: a page or a workbook."""

from fairladder.report.write import write_html, write_workbook

__all__ = ["write_html", "write_workbook"]

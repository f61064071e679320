"""What an analyst hands on: the page and the workbook of a report."""

from fairladder.report.write import write_html, write_workbook

__all__ = ["write_html", "write_workbook"]

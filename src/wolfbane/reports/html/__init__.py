"""The report as one HTML file that opens offline."""

from wolfbane.reports.html.document import write_html

__all__ = ["write_html"]

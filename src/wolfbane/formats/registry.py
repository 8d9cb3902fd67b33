"""The report formats that Wolfbane writes.

This module imports quickly, because shell completion uses it.
"""

from __future__ import annotations

WRITERS = {
    "html": "wolfbane.reports.html.document:write_html",
    "xunit": "wolfbane.formats.xunit.writer:write_xunit",
    "tap": "wolfbane.formats.tap.writer:write_tap",
    "ctrf": "wolfbane.formats.ctrf.writer:write_ctrf",
    "openmetrics": "wolfbane.formats.openmetrics.writer:write_openmetrics",
    "json": "wolfbane.reports.json_report:write_json",
    "jsonl": "wolfbane.reports.jsonl_report:write_lines",
    "csv": "wolfbane.reports.csv_markdown:write_csv",
    "markdown": "wolfbane.reports.csv_markdown:write_markdown",
    "record": "wolfbane.reports.archive:write_archive",
    "mail": "wolfbane.reports.mail.message:write_mail",
}
"""One line for each format: its name, and ``MODULE:FUNCTION`` that makes bytes of a run's record.

A function of an open format takes :class:`wolfbane.formats.run_facts.RunFacts`, which a record is.
"""
NAMES = tuple(WRITERS)

"""Everything of a report as one zip."""

from __future__ import annotations

import zipfile
from io import BytesIO

from gleaner.report import html, markdown, plots, tables
from gleaner.report.report_data import ReportData

FIRST_DAY = (1980, 1, 1, 0, 0, 0)


def packed(findings: ReportData) -> bytes:
    """report.html, report.md, plots as SVG and PNG, tables as CSV and Parquet: the same bytes for the same findings."""
    out = BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:

        def put(name: str, content: bytes) -> None:
            archive.writestr(zipfile.ZipInfo(name, FIRST_DAY), content, zipfile.ZIP_DEFLATED)

        drawn = {name: plots.drawn_as(findings, name, ("svg", "png")) for name in plots.available(findings)}
        put("report.html", html.page(findings, lambda name: drawn[name]["svg"]).encode())
        put("report.md", markdown.page(findings).encode())
        for name, forms in drawn.items():
            for form, content in forms.items():
                put(f"{markdown.PLOTS}/{name}.{form}", content)
        for name in tables.TABLES:
            for form in ("csv", "parquet"):
                put(f"tables/{name}.{form}", tables.written(findings, name, form))
    return out.getvalue()

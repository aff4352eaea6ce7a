"""Reports of contests: the page, its plots, its tables."""

from __future__ import annotations

from typing import Literal

from fastapi import APIRouter, Response

from gleaner.core.errors import UnknownNameError, near
from gleaner.service.contests.reporting import report_data_of
from gleaner.service.http.access import BUILD
from gleaner.service.http.dependencies import PROBLEMS, Named
from gleaner.service.http.guarded_route import GuardedRoute
from gleaner.service.http.state import ConnectionDep, ServiceDep
from gleaner.wire.contests.reports import ReportParts

router = APIRouter(prefix="/v1/contests/{run}", tags=["contests"], responses=PROBLEMS, route_class=GuardedRoute)
TYPES = {
    "html": "text/html; charset=utf-8",
    "markdown": "text/markdown; charset=utf-8",
    "svg": "image/svg+xml",
    "png": "image/png",
    "zip": "application/zip",
    "csv": "text/csv; charset=utf-8",
    "parquet": "application/vnd.apache.parquet",
}


@router.get("/report", dependencies=[BUILD], response_class=Response)
def get_report(
    run: Named, service: ServiceDep, connection: ConnectionDep, form: Literal["html", "markdown", "zip"] = "html"
) -> Response:
    """A run as one self-contained HTML file, as Markdown whose plots lie beside it in `plots`, or as a zip of both with
    every plot as SVG and PNG and every table as CSV and Parquet."""
    from gleaner.report import folder, html, markdown  # drawing takes long to load, and few requests draw

    findings = report_data_of(service, connection, run)
    if form == "zip":
        return _file(folder.packed(findings), form, findings.run.name)
    page = html.page(findings) if form == "html" else markdown.page(findings)
    return _file(page.encode(), form, findings.run.name)


@router.get("/parts", dependencies=[BUILD])
def list_report_parts(run: Named, service: ServiceDep, connection: ConnectionDep) -> ReportParts:
    """The plots and tables that a run has."""
    from gleaner.report import plots, tables

    findings = report_data_of(service, connection, run)
    captions = {name: caption for name, (caption, _) in plots.available(findings).items()}
    return ReportParts(run=findings.run.name, plots=captions, tables=list(tables.TABLES))


@router.get("/plots/{plot}", dependencies=[BUILD], response_class=Response)
def get_plot(
    run: Named, plot: Named, service: ServiceDep, connection: ConnectionDep, form: Literal["svg", "png"] = "svg"
) -> Response:
    """One plot."""
    from gleaner.report import plots

    findings = report_data_of(service, connection, run)
    has = plots.available(findings)
    if plot not in has:
        raise UnknownNameError(f"{findings.run.name} has no plot {plot!r}{near(plot, has)}", where="plot")
    return _file(plots.drawn(findings, plot, form), form, plot)


@router.get("/tables/{table}", dependencies=[BUILD], response_class=Response)
def get_report_table(
    run: Named, table: Named, service: ServiceDep, connection: ConnectionDep, form: Literal["csv", "parquet"] = "csv"
) -> Response:
    """One table."""
    from gleaner.report import tables

    if table not in tables.TABLES:
        raise UnknownNameError(f"there is no table {table!r}{near(table, tables.TABLES)}", where="table")
    findings = report_data_of(service, connection, run)
    return _file(tables.written(findings, table, form), form, table)


def _file(content: bytes, form: str, name: str) -> Response:
    suffix = "md" if form == "markdown" else form
    headers = {"content-disposition": f'inline; filename="{name}.{suffix}"'}
    if form == "html":
        # a page of figures runs no script and fetches nothing
        headers["content-security-policy"] = "default-src 'none'; style-src 'unsafe-inline'; img-src data:"
    return Response(content, media_type=TYPES[form], headers=headers)

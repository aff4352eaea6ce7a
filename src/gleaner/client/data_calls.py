"""Bringing data in and looking at it, as calls."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from gleaner.client.call import QUERY_TIMEOUT_S, Call, get, quoted
from gleaner.wire.common import Page
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.contests.runs import DivideReport
from gleaner.wire.datasets import (
    Comparison,
    Dataset,
    DatasetVersion,
    EncodingReport,
    ForgetRequest,
    History,
    ItemFacts,
    ItemSummary,
    OverlapMap,
    QueryAnswer,
    QueryRequest,
    RemovedVersion,
    RowsPage,
    Upload,
    UserSummary,
)
from gleaner.wire.imports import ImportLook, ImportRequest, Proposal, ProposalRequest
from gleaner.wire.jobs import Job


def _version(name: str, number: int) -> str:
    return f"/v1/datasets/{quoted(name)}/versions/{number}"


def upload(file: Path, on_sent: Callable[[int], None] | None = None) -> Call[Upload]:
    """Send a file. `on_sent` receives the bytes sent so far."""
    return Call("POST", "/v1/uploads", Upload, {"file": file.name}, file=file, on_sent=on_sent, repeatable=True)


def import_version(dataset: str, request: ImportRequest, idempotency_key: str | None = None) -> Call[Job]:
    """Make the next version of a dataset from uploads."""
    path = f"/v1/datasets/{quoted(dataset)}/versions"
    return Call("POST", path, Job, body=request, idempotency_key=idempotency_key)


def list_datasets(after: str | None = None, limit: int | None = None) -> Call[Page[Dataset]]:
    """Datasets by name."""
    return get("/v1/datasets", Page[Dataset], after=after, limit=limit)


def dataset(name: str) -> Call[Dataset]:
    """One dataset."""
    return get(f"/v1/datasets/{quoted(name)}", Dataset)


def dataset_version(name: str, number: int) -> Call[DatasetVersion]:
    """One version with its profile."""
    return get(f"/v1/datasets/{quoted(name)}/versions/{number}", DatasetVersion)


def propose(request: ProposalRequest) -> Call[Proposal]:
    """Look into files: roles and types that fit, and why."""
    return Call("POST", "/v1/proposals", Proposal, body=request, timeout_s=QUERY_TIMEOUT_S)


def remove_version(name: str, number: int, *, force: bool = False) -> Call[RemovedVersion]:
    """Take a version's data away."""
    return Call("DELETE", _version(name, number), RemovedVersion, {"force": force})


def forget_user(name: str, user: str, idempotency_key: str | None = None) -> Call[Job]:
    """Remove a user's rows from every version."""
    path = f"/v1/datasets/{quoted(name)}/forget"
    return Call("POST", path, Job, body=ForgetRequest(user=user), idempotency_key=idempotency_key)


def split_version(name: str, number: int, file: FileRequest) -> Call[Job]:
    """Prepare and split as a file declares, without training; `split_report` answers what was done."""
    return Call("POST", f"{_version(name, number)}/split", Job, body=file)


def split_report(job_id: int) -> Call[DivideReport]:
    """What the preparation and split of a job did."""
    return get(f"/v1/splits/{job_id}", DivideReport)


def bring_example_data() -> Call[Job]:
    """Import the data of a made-up seed exchange, which comes with the service."""
    return Call("POST", "/v1/example-data", Job)


def import_look(job_id: int) -> Call[ImportLook]:
    """What a job with `only_look` says an import would keep, drop and find."""
    return get(f"/v1/imports/{job_id}", ImportLook)


def compare_versions(name: str, before: int, after: int) -> Call[Comparison]:
    """Two versions: counts, drift, what moved most."""
    return get(f"/v1/datasets/{quoted(name)}/compare", Comparison, before=before, after=after)


def rows(
    name: str,
    number: int,
    table: str = "interactions",
    *,
    where: str | None = None,
    sample: int | None = None,
    limit: int | None = None,
) -> Call[RowsPage]:
    """Rows of a table: the first, those for which a condition holds, or a sample."""
    return get(f"{_version(name, number)}/rows", RowsPage, table=table, where=where, sample=sample, limit=limit)


def query(name: str, number: int, sql: str, limit: int = 1000) -> Call[QueryAnswer]:
    """One SELECT over interactions, items and users."""
    body = QueryRequest(sql=sql, limit=limit)
    return Call("POST", f"{_version(name, number)}/query", QueryAnswer, body=body, timeout_s=QUERY_TIMEOUT_S)


def query_file(name: str, number: int, sql: str, form: str, limit: int = 1_000_000) -> Call[bytes]:
    """The same as a file: csv or parquet."""
    body = QueryRequest(sql=sql, limit=limit)
    path = f"{_version(name, number)}/query"
    return Call("POST", path, bytes, {"format": form}, body=body, timeout_s=QUERY_TIMEOUT_S)


def table_file(name: str, number: int, table: str) -> Call[bytes]:
    """One whole table of a version, as Parquet."""
    return get(f"{_version(name, number)}/files/{table}", bytes)


def item_facts(name: str, number: int, item: str, n: int | None = None) -> Call[ItemFacts]:
    """One item: its values, its months, what goes together with it."""
    return get(f"{_version(name, number)}/items", ItemFacts, item=item, n=n)


def overlap(name: str, number: int, users: list[str]) -> Call[OverlapMap]:
    """Every pair of some users: items in common, how alike their values are."""
    return get(f"{_version(name, number)}/overlap", OverlapMap, user=users)


def features(name: str, number: int, table: str = "items") -> Call[EncodingReport]:
    """How a table's columns become features."""
    return get(f"{_version(name, number)}/features", EncodingReport, table=table)


def find_users(name: str, number: int, search: str = "", limit: int | None = None) -> Call[list[UserSummary]]:
    """Users of a version, the most active first."""
    return get(f"{_version(name, number)}/users", list[UserSummary], search=search, limit=limit)


def find_items(name: str, number: int, search: str = "", limit: int | None = None) -> Call[list[ItemSummary]]:
    """Items of a version, those with most rows first."""
    return get(f"{_version(name, number)}/items/search", list[ItemSummary], search=search, limit=limit)


def history(name: str, number: int, user: str, limit: int | None = None) -> Call[History]:
    """What one user did."""
    return get(f"/v1/datasets/{quoted(name)}/versions/{number}/history", History, user=user, limit=limit)

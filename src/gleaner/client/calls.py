"""Every call of the API as a typed value. Both clients send them; nothing here touches the network."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Generic, TypeVar
from urllib.parse import quote

from pydantic import BaseModel, TypeAdapter

from gleaner.wire.common import Page, Version
from gleaner.wire.contests import DivideReport, FileRequest, Run, RunSummary
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
from gleaner.wire.imports import ImportRequest, Proposal, ProposalRequest
from gleaner.wire.jobs import Job, JobDetail, JobState
from gleaner.wire.keys import Key, KeyRequest, NewKey
from gleaner.wire.models import (
    AllRequest,
    Audience,
    AudienceRequest,
    Average,
    Estimate,
    FactorsReport,
    Family,
    JobRound,
    ListsRequest,
    ModelCard,
    ModelExplanation,
    ModelList,
    ModelLists,
    ModelSummary,
    Pair,
    RateRequest,
    Ratings,
    Similar,
    TakeRequest,
    TrainRequest,
)
from gleaner.wire.shelves import (
    RecommendationAnswer,
    RecommendRequest,
    ServedList,
    ShelfHistory,
    ShelfSummary,
    ShelfVersion,
)

T = TypeVar("T")
QUERY_TIMEOUT_S = 900.0
"""The service bounds queries itself, and says so; the client waits for what it says."""


@dataclass(frozen=True)
class Call(Generic[T]):
    """One request and the type of its answer. `safe` calls change nothing and may be repeated."""

    method: str
    path: str
    answer: Any
    query: dict[str, Any] = field(default_factory=dict)
    body: BaseModel | None = None
    file: Path | None = None
    on_sent: Callable[[int], None] | None = None
    idempotency_key: str | None = None
    repeatable: bool = False
    timeout_s: float | None = None

    @property
    def safe(self) -> bool:
        """Whether a repeat can do no harm."""
        return self.method == "GET" or self.repeatable or self.idempotency_key is not None

    def read(self, content: bytes) -> T:
        """The answer's body as its type; a file's bytes as they are."""
        if self.answer is bytes:
            return content  # type: ignore[return-value]
        return TypeAdapter(self.answer).validate_json(content)


def _get(path: str, answer: Any, **query: Any) -> Call[Any]:
    return Call("GET", path, answer, {name: value for name, value in query.items() if value is not None})


def _name(text: str) -> str:
    return quote(text, safe="@")


def version() -> Call[Version]:
    """Is the service there, and which."""
    return _get("/readyz", Version)


def upload(file: Path, on_sent: Callable[[int], None] | None = None) -> Call[Upload]:
    """Send a file. `on_sent` is told the bytes sent so far."""
    return Call("POST", "/v1/uploads", Upload, {"file": file.name}, file=file, on_sent=on_sent, repeatable=True)


def import_version(dataset: str, request: ImportRequest, idempotency_key: str | None = None) -> Call[Job]:
    """Make the next version of a dataset from uploads."""
    path = f"/v1/datasets/{_name(dataset)}/versions"
    return Call("POST", path, Job, body=request, idempotency_key=idempotency_key)


def list_datasets(after: str | None = None, limit: int | None = None) -> Call[Page[Dataset]]:
    """Datasets by name."""
    return _get("/v1/datasets", Page[Dataset], after=after, limit=limit)


def dataset(name: str) -> Call[Dataset]:
    """One dataset."""
    return _get(f"/v1/datasets/{_name(name)}", Dataset)


def dataset_version(name: str, number: int) -> Call[DatasetVersion]:
    """One version with its profile."""
    return _get(f"/v1/datasets/{_name(name)}/versions/{number}", DatasetVersion)


def _version(name: str, number: int) -> str:
    return f"/v1/datasets/{_name(name)}/versions/{number}"


def propose(request: ProposalRequest) -> Call[Proposal]:
    """Look into files: roles and types that fit, and why."""
    return Call("POST", "/v1/proposals", Proposal, body=request, timeout_s=QUERY_TIMEOUT_S)


def remove_version(name: str, number: int, *, force: bool = False) -> Call[RemovedVersion]:
    """Take a version's data away."""
    return Call("DELETE", _version(name, number), RemovedVersion, {"force": force})


def forget_user(name: str, user: str, idempotency_key: str | None = None) -> Call[Job]:
    """Remove a user's rows from every version."""
    path = f"/v1/datasets/{_name(name)}/forget"
    return Call("POST", path, Job, body=ForgetRequest(user=user), idempotency_key=idempotency_key)


def split_version(name: str, number: int, file: FileRequest) -> Call[Job]:
    """Prepare and split as a file declares, without training; `split_report` answers what was done."""
    return Call("POST", f"{_version(name, number)}/split", Job, body=file)


def split_report(job_id: int) -> Call[DivideReport]:
    """What the preparation and split of a job did."""
    return _get(f"/v1/splits/{job_id}", DivideReport)


def compare_versions(name: str, before: int, after: int) -> Call[Comparison]:
    """Two versions: counts, drift, what moved most."""
    return _get(f"/v1/datasets/{_name(name)}/compare", Comparison, before=before, after=after)


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
    return _get(f"{_version(name, number)}/rows", RowsPage, table=table, where=where, sample=sample, limit=limit)


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
    return _get(f"{_version(name, number)}/files/{table}", bytes)


def item_facts(name: str, number: int, item: str, n: int | None = None) -> Call[ItemFacts]:
    """One item: its values, its months, what goes together with it."""
    return _get(f"{_version(name, number)}/items", ItemFacts, item=item, n=n)


def overlap(name: str, number: int, users: list[str]) -> Call[OverlapMap]:
    """Every pair of some users: items in common, how alike their values are."""
    return _get(f"{_version(name, number)}/overlap", OverlapMap, user=users)


def features(name: str, number: int, table: str = "items") -> Call[EncodingReport]:
    """How a table's columns become features."""
    return _get(f"{_version(name, number)}/features", EncodingReport, table=table)


def find_users(name: str, number: int, search: str = "", limit: int | None = None) -> Call[list[UserSummary]]:
    """Users of a version, the most active first."""
    return _get(f"{_version(name, number)}/users", list[UserSummary], search=search, limit=limit)


def find_items(name: str, number: int, search: str = "", limit: int | None = None) -> Call[list[ItemSummary]]:
    """Items of a version, the most met first."""
    return _get(f"{_version(name, number)}/items/search", list[ItemSummary], search=search, limit=limit)


def history(name: str, number: int, user: str, limit: int | None = None) -> Call[History]:
    """What one user did."""
    return _get(f"/v1/datasets/{_name(name)}/versions/{number}/history", History, user=user, limit=limit)


def run_contest(file: FileRequest, idempotency_key: str | None = None) -> Call[Run]:
    """Run a contest file."""
    return Call("POST", "/v1/contests", Run, body=file, idempotency_key=idempotency_key)


def list_runs(after: str | None = None, limit: int | None = None) -> Call[Page[RunSummary]]:
    """Runs, newest first."""
    return _get("/v1/contests", Page[RunSummary], after=after, limit=limit)


def run(name: str) -> Call[Run]:
    """One run with its leaderboard."""
    return _get(f"/v1/contests/{_name(name)}", Run)


def list_models(after: str | None = None, limit: int | None = None) -> Call[Page[ModelSummary]]:
    """Models, newest first."""
    return _get("/v1/models", Page[ModelSummary], after=after, limit=limit)


def model(name: str) -> Call[ModelCard]:
    """A model's card."""
    return _get(f"/v1/models/{_name(name)}", ModelCard)


def model_recommend(
    name: str, user: str, n: int = 10, *, include_known: bool = False, where: str | None = None
) -> Call[ModelList]:
    """What a bare model recommends to a user, of the items for which an SQL condition holds."""
    path = f"/v1/models/{_name(name)}/users/{quote(user, safe='')}/recommendations"
    return _get(path, ModelList, n=n, include_known=include_known, where=where)


def families() -> Call[list[Family]]:
    """Every model family."""
    return _get("/v1/families", list[Family])


def train_model(request: TrainRequest, idempotency_key: str | None = None) -> Call[Job]:
    """Train one model, without a contest."""
    return Call("POST", "/v1/models", Job, body=request, idempotency_key=idempotency_key)


def estimate(request: TrainRequest) -> Call[Estimate]:
    """What a fit will take."""
    return Call("POST", "/v1/estimates", Estimate, body=request, repeatable=True)


def job_rounds(job_id: int, skip: int = 0) -> Call[list[JobRound]]:
    """Iterations of a job's fits so far."""
    return _get(f"/v1/jobs/{job_id}/rounds", list[JobRound], skip=skip)


def model_export(name: str, form: str = "folder") -> Call[bytes]:
    """A model as a file: folder (zipped), factors (zipped Parquet) or onnx."""
    return _get(f"/v1/models/{_name(name)}/export", bytes, form=form)


def take_model(upload: str, name: str | None = None) -> Call[Job]:
    """Bring in an exported model whose zipped folder was uploaded."""
    return Call("POST", "/v1/models/take", Job, body=TakeRequest(upload=upload, name=name))


def model_lists(name: str, request: ListsRequest) -> Call[ModelLists]:
    """Lists of several users, or of someone new from a few items."""
    return Call("POST", f"/v1/models/{_name(name)}/recommendations", ModelLists, body=request, repeatable=True)


def all_lists(name: str, request: AllRequest) -> Call[Job]:
    """Lists for everybody, as a file: a job."""
    return Call("POST", f"/v1/models/{_name(name)}/lists", Job, body=request)


def job_file(job_id: int) -> Call[bytes]:
    """The file a job made, as Parquet."""
    return _get(f"/v1/jobs/{job_id}/file", bytes)


def audience(
    name: str, item: str, n: int = 10, *, include_known: bool = False, where: str | None = None
) -> Call[Audience]:
    """The users who would like an item most, of those for whom an SQL condition holds."""
    path = f"/v1/models/{_name(name)}/items/{quote(item, safe='')}/audience"
    return _get(path, Audience, n=n, include_known=include_known, where=where)


def audiences(name: str, request: AudienceRequest) -> Call[list[Audience]]:
    """Audiences of several items, or of a new one from users who touched it."""
    return Call("POST", f"/v1/models/{_name(name)}/audiences", list[Audience], body=request, repeatable=True)


def similar(name: str, side: str, id: str, n: int = 10, *, where: str | None = None) -> Call[Similar]:
    """Items like an item, or users like a user."""
    path = f"/v1/models/{_name(name)}/{side}s/{quote(id, safe='')}/similar"
    return _get(path, Similar, n=n, where=where)


def rate(name: str, pairs: list[Pair]) -> Call[Ratings]:
    """Predicted values of pairs."""
    body = RateRequest(pairs=pairs)
    return Call("POST", f"/v1/models/{_name(name)}/ratings", Ratings, body=body, repeatable=True)


def averages(name: str, n: int = 20) -> Call[list[Average]]:
    """Observed against predicted mean values of the items with the most values."""
    return _get(f"/v1/models/{_name(name)}/averages", list[Average], n=n)


def explain(name: str, user: str, item: str, n: int = 30) -> Call[ModelExplanation]:
    """Why a user gets a score for an item."""
    return _get(f"/v1/models/{_name(name)}/explanation", ModelExplanation, user=user, item=item, n=n)


def factors(name: str, n: int = 5) -> Call[FactorsReport]:
    """What the factors of a model stand for."""
    return _get(f"/v1/models/{_name(name)}/factors", FactorsReport, n=n)


def publish_shelf(file: FileRequest, idempotency_key: str | None = None) -> Call[ShelfVersion]:
    """Publish a shelf file."""
    return Call("POST", "/v1/shelves", ShelfVersion, body=file, idempotency_key=idempotency_key)


def list_shelves(after: str | None = None, limit: int | None = None) -> Call[Page[ShelfSummary]]:
    """Shelves by name."""
    return _get("/v1/shelves", Page[ShelfSummary], after=after, limit=limit)


def shelf(name: str) -> Call[ShelfVersion]:
    """The version of a shelf being served, or one by its number."""
    return _get(f"/v1/shelves/{_name(name)}", ShelfVersion)


def shelf_history(name: str) -> Call[ShelfHistory]:
    """Every version of a shelf."""
    return _get(f"/v1/shelves/{_name(name)}/versions", ShelfHistory)


def recommend(
    shelf: str,
    *,
    user: str | None = None,
    recent: list[str] | None = None,
    n: int = 10,
    explain: bool = False,
) -> Call[RecommendationAnswer]:
    """A list from a shelf. Asking changes nothing but the log of served lists, so it may be repeated."""
    body = RecommendRequest.model_construct(user=user, recent=recent or [], n=n, explain=explain)
    path = f"/v1/shelves/{_name(shelf)}/recommendations"
    return Call("POST", path, RecommendationAnswer, body=body, repeatable=True)


def served_list(list_id: str) -> Call[ServedList]:
    """A list that was served."""
    return _get(f"/v1/lists/{_name(list_id)}", ServedList)


def list_jobs(after: str | None = None, limit: int | None = None, state: JobState | None = None) -> Call[Page[Job]]:
    """Jobs, newest first."""
    return _get("/v1/jobs", Page[Job], after=after, limit=limit, state=state.value if state else None)


def job(job_id: int) -> Call[JobDetail]:
    """One job with its log."""
    return _get(f"/v1/jobs/{job_id}", JobDetail)


def cancel_job(job_id: int) -> Call[Job]:
    """Ask a job to stop."""
    return Call("POST", f"/v1/jobs/{job_id}/cancel", Job)


def create_key(request: KeyRequest) -> Call[NewKey]:
    """Make a key."""
    return Call("POST", "/v1/keys", NewKey, body=request)


def list_keys() -> Call[Page[Key]]:
    """All keys."""
    return _get("/v1/keys", Page[Key])


def revoke_key(name: str) -> Call[Key]:
    """End a key."""
    return Call("POST", f"/v1/keys/{_name(name)}/revoke", Key, repeatable=True)

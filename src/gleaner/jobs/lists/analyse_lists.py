"""The job behind `lists analyse`: unexpectedness by several definitions, what it depends on, do they agree."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.contests.parts import divide
from gleaner.core.data.foreign_lists import ListOddities, arranged, ordered
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import DataError, InputError
from gleaner.core.metrics.agreement import (
    Index,
    kernel_principal,
    principal,
    rank_correlation,
    rank_correlations,
    singular,
)
from gleaner.core.metrics.segments import Masks, in_bins, in_quantiles
from gleaner.core.metrics.surprise import DEFINITIONS, AnalysedLists, normalised, per_user, summary, surprises
from gleaner.core.models.base.registry import build
from gleaner.core.preparation.prepare import prepare_everything
from gleaner.core.ranking.topn import top_n
from gleaner.core.splits.truth import Truth
from gleaner.jobs.contests.declarations import preparation_of, relevance_of, split_of
from gleaner.jobs.datasets.side_tables import side_tables
from gleaner.jobs.lists import list_findings
from gleaner.jobs.lists.list_files import read_lists
from gleaner.jobs.models.listener import progress_stretch
from gleaner.jobs.worker.context import JobContext
from gleaner.store import contests, datasets, jobs, models
from gleaner.store.files import job_files
from gleaner.store.files.interactions import read_rows
from gleaner.store.files.models import load_model
from gleaner.wire.analysis import (
    AnalyseRequest,
    AnalysisReport,
    BinMean,
    Distribution,
    IndexReport,
    Sensitivity,
    SurpriseReport,
)
from gleaner.wire.names import plain_name


@dataclass(eq=False)
class Subject:
    """What is analysed, brought into one form."""

    label: str
    data: str
    beside: str | None
    history: InteractionMatrix
    truth: Truth | None
    files: datasets.VersionFiles
    lists: pl.DataFrame
    format: str = ""


def run(context: JobContext) -> dict[str, Any]:
    """Answers the report; the upload goes when it is done."""
    begun = time.perf_counter()
    request = AnalyseRequest.model_validate(context.claim.payload)
    oddities = ListOddities()
    subject = _subject(context, request, oddities)
    listed, content = _listed(context, request, subject, oddities)
    if not oddities.users_scored:
        raise DataError(f"no user of {subject.label} has a history in {subject.data}", where="lists")
    values = surprises(listed, context.part(0.5, 0.8, "comparing with histories"))
    context.require_going(0.8, "what the definitions depend on, and whether they agree")
    users = _users(listed)
    normal = {name: normalised(each) for name, each in values.items()}
    means = {name: per_user(each) for name, each in normal.items()}
    everyone = ~np.isnan(np.column_stack(list(means.values()))).any(axis=1)
    if everyone.sum() < 2:
        raise DataError(
            "fewer than two users have a figure by every definition, so nothing can be compared", where="lists"
        )
    table = np.column_stack([each[everyone] for each in means.values()])
    tau, rho = rank_correlations(table)
    context.require_going(0.9, "one index of all")
    indexes = {
        "PCA": principal(table),
        f"kernel PCA ({request.kernel})": kernel_principal(table, request.kernel, request.seed),
        "SVD": singular(table),
    }
    path = context.staging / "users.parquet"
    _per_user(subject, listed, users, means, everyone, indexes).write_parquet(path, compression="zstd")
    artefact = context.artefacts.put(path, "parquet")
    names = list(values)
    report = AnalysisReport(
        label=subject.label,
        data=subject.data,
        beside=subject.beside,
        users=len(listed.lists),
        places=listed.lists.shape[1],
        expected=request.expected,
        expected_n=listed.expected.shape[1],
        content=content,
        relevance=listed.relevant is not None,
        definitions=[_definition(request, name, values[name], normal[name], listed, users) for name in names],
        left_out={name: _why_not(name, content) for name in DEFINITIONS if name not in values},
        kendall=_cells(tau),
        spearman=_cells(rho),
        indexes=[_index(method, each, names, table) for method, each in indexes.items()],
        findings=list_findings.analysed(oddities, subject.format) if request.upload else None,
        seconds=time.perf_counter() - begun,
        file=artefact.sha256,
    )
    result = report.model_dump(mode="json")
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        job_files.add(connection, context.claim.id, "main", artefact, plain_name(subject.data))
        text = f"{subject.label}: {len(values)} definitions over the lists of {len(listed.lists):,} users"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    if request.upload:
        (context.settings.uploads / request.upload).unlink(missing_ok=True)
    return result


def _subject(context: JobContext, request: AnalyseRequest, oddities: ListOddities) -> Subject:
    """Lists from a model or a file; histories, and what is relevant, from a run, a dataset or the model's training."""
    fitted = None
    if request.model is not None:
        context.require_going(0.02, f"loading {request.model}")
        with context.engine.begin() as connection:
            files_of_model = models.files(connection, request.model)
        fitted = load_model(context.artefacts, files_of_model)
    label = fitted.name if fitted else request.file
    with context.engine.begin() as connection:
        run = contests.get(connection, request.beside) if request.beside else None
        if run is not None:
            files = datasets.files(connection, run.data)
        elif fitted is not None:
            if files_of_model.version_id is None:
                raise InputError(
                    f"{fitted.name} came without its data; name a run to analyse it beside", where="beside"
                )
            files = datasets.files_by_id(connection, files_of_model.version_id)
        else:
            files = datasets.files(connection, request.data or "")
    truth = None
    if run is not None or fitted is None:
        context.require_going(0.1, "reading interactions")
        rows = read_rows(context.artefacts.local_path(files.interactions_file), files.scale)
        if run is not None:
            spec, report_progress = run.spec, progress_stretch(context, 0.1, 0.3).require_going
            rule = split_of(spec.split, spec.seed)
            stage = divide(rows, preparation_of(spec.prepare), rule, report_progress, relevance_of(spec.rank)).stage(
                "test"
            )
            if stage is None:
                raise DataError(f"the test part of {run.name} is empty", where="beside")
            history, truth = stage.train, stage.truth
        else:
            history = prepare_everything(rows, preparation_of(request.prepare)).matrix
    else:
        history = fitted.train
    if fitted is not None:
        context.require_going(0.3, "making lists")
        owners = fitted.train.users.ids.to_pylist()
        lists = fitted.recommend(owners, request.n).select("user", "item", place="position")
        return Subject(label, files.name, run.name if run else None, history, truth, files, ordered(lists, oddities))
    context.require_going(0.3, f"reading {request.file}")
    rows_of, kind = read_lists(context.settings.uploads / (request.upload or ""), request.columns)
    name = run.name if run else None
    return Subject(label, files.name, name, history, truth, files, ordered(rows_of, oddities), kind)


def _listed(
    context: JobContext, request: AnalyseRequest, subject: Subject, oddities: ListOddities
) -> tuple[AnalysedLists, list[str]]:
    """Lists, histories, primitive lists and content in rows of the training matrix."""
    history = subject.history
    if subject.truth is not None:
        rows = subject.truth.user_rows
    else:
        rows = np.unique(history.users.rows(subject.lists["user"].unique().to_list()))
        rows = rows[rows >= 0].astype(np.int32)
    lists = arranged(subject.lists, history, history.items, rows, request.n, oddities)
    has_list: np.ndarray = np.asarray((lists >= 0).any(axis=1))
    lists, rows = lists[has_list], rows[has_list]
    context.require_going(0.4, f"what anybody would list: {request.expected}")
    primitive = build(request.expected, {}).fit(history)
    expected = top_n(primitive, rows, request.expected_n, tie_order(history.items, request.seed), exclude=history).items
    relevant = None if subject.truth is None else _relevant(lists, subject.truth, has_list)
    vectors, columns = _content(context, request, subject)
    return AnalysedLists(lists, rows, history, expected, relevant, vectors), columns


def _relevant(lists: np.ndarray, truth: Truth, kept: np.ndarray) -> np.ndarray:
    rows = np.flatnonzero(kept)
    out = np.zeros(lists.shape, dtype=bool)
    for place, row in enumerate(rows):
        out[place] = np.isin(lists[place], truth.indices[truth.indptr[row] : truth.indptr[row + 1]])
    return out


def _content(
    context: JobContext, request: AnalyseRequest, subject: Subject
) -> tuple[sparse.csr_array | None, list[str]]:
    """Vectors of the items from the columns named, or from all that hold categories; None without an item table."""
    if subject.files.items_file is None:
        if request.content:
            raise DataError(f"{subject.data} has no item table, and content names columns of one", where="content")
        return None, []
    tables = side_tables(context, subject.files)
    named = request.content
    if named is None:
        types = tables.frames.item_types or {}
        named = [name for name, kind in types.items() if kind in ("category", "categories") and name != "id"]
    if not named:
        return None, []
    return tables.content(subject.history.items, named, None).vectors, named


def _users(listed: AnalysedLists) -> pl.DataFrame:
    """What figures may depend on: history (items) and bias of each user."""
    history = listed.history
    lengths = np.diff(history.indptr)
    totals = np.bincount(history.user_rows, weights=history.values, minlength=len(lengths))
    own = totals / np.maximum(lengths, 1) - float(history.values.mean())
    return pl.DataFrame({"history": lengths[listed.user_rows], "bias": own[listed.user_rows]})


def _definition(
    request: AnalyseRequest, name: str, raw: np.ndarray, normal: np.ndarray, listed: AnalysedLists, users: pl.DataFrame
) -> SurpriseReport:
    about = DEFINITIONS[name]
    means = per_user(normal)
    there = listed.lists >= 0
    counts = np.bincount(listed.history.indices, minlength=listed.history.shape[1])
    popularity = counts[listed.lists[there]]
    history, bias = users["history"].to_numpy(), users["bias"].to_numpy()
    return SurpriseReport(
        name=name,
        formula=about.formula,
        source=about.source,
        raw=Distribution(**summary(per_user(raw))),
        normal=Distribution(**summary(means)),
        by_place=[_mean(normal[:, place]) for place in range(normal.shape[1])],
        by_history=_sensitivity(history, means, in_bins(users["history"], request.history_bins)),
        by_popularity=_sensitivity(popularity, normal[there], in_bins(pl.Series(popularity), request.popularity_bins)),
        by_bias=_sensitivity(bias, means, in_quantiles(bias, request.bias_bins)),
    )


def _sensitivity(of: np.ndarray, values: np.ndarray, masks: Masks) -> Sensitivity:
    known = ~np.isnan(values)
    varies = known.sum() > 1 and np.ptp(of[known]) > 0 and np.ptp(values[known]) > 0
    rho = rank_correlation(of[known], values[known]) if varies else None
    bins = [BinMean(name=name, n=int((mask & known).sum()), mean=_mean(values[mask])) for name, mask in masks]
    return Sensitivity(rho=rho, bins=bins)


def _mean(values: np.ndarray) -> float | None:
    known = values[~np.isnan(values)]
    return float(known.mean()) if len(known) else None


def _index(method: str, index: Index, names: list[str], table: np.ndarray) -> IndexReport:
    rho = {
        name: rank_correlation(index.values, table[:, place])
        for place, name in enumerate(names)
        if np.ptp(table[:, place]) > 0
    }
    weights = dict(zip(names, index.weights, strict=True)) if index.weights else {}
    return IndexReport(method=method, explained=index.explained, weights=weights, sampled=index.sampled, rho=rho)


def _why_not(name: str, content: list[str]) -> str:
    if DEFINITIONS[name].needs == "content" and not content:
        return "needs item columns that say what an item is: categories in an item table, or `content`"
    return "no listed item could be compared with anything"


def _cells(table: np.ndarray) -> list[list[float | None]]:
    return [[None if np.isnan(each) else float(each) for each in row] for row in table]


def _per_user(
    subject: Subject,
    listed: AnalysedLists,
    users: pl.DataFrame,
    means: dict[str, np.ndarray],
    everyone: np.ndarray,
    indexes: dict[str, Index],
) -> pl.DataFrame:
    """A row per user: history, bias, every definition (normalised), every index."""
    ids = pl.Series("user", subject.history.users.take(listed.user_rows), dtype=pl.String)
    frame = users.with_columns(ids, *[pl.Series(name, values).fill_nan(None) for name, values in means.items()])
    for method, index in indexes.items():
        placed = np.full(len(listed.lists), np.nan)
        placed[everyone] = index.values
        frame = frame.with_columns(pl.Series(method.split(" (")[0].lower().replace(" ", "_"), placed).fill_nan(None))
    return frame.select("user", pl.exclude("user"))

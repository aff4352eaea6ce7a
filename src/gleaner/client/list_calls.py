"""Lists made elsewhere, as calls."""

from __future__ import annotations

from gleaner.client.call import Call, get
from gleaner.wire.analysis import AnalyseRequest, AnalysisReport
from gleaner.wire.common import Page
from gleaner.wire.jobs import Job
from gleaner.wire.lists import ListScores, ListWork, ScoreListsRequest


def score_lists(request: ScoreListsRequest) -> Call[Job]:
    """Score uploaded lists against a test part; `list_scores` answers how they did."""
    return Call("POST", "/v1/lists/scores", Job, body=request)


def list_scores(job_id: int) -> Call[ListScores]:
    """The scores of a job."""
    return get(f"/v1/lists/scores/{job_id}", ListScores)


def analyse_lists(request: AnalyseRequest) -> Call[Job]:
    """Analyse how unexpected lists are; `list_analysis` answers the report."""
    return Call("POST", "/v1/lists/analyses", Job, body=request)


def list_analysis(job_id: int) -> Call[AnalysisReport]:
    """The report of an analysis."""
    return get(f"/v1/lists/analyses/{job_id}", AnalysisReport)


def list_work(data: str | None = None, *, after: str | None = None, limit: int = 50) -> Call[Page[ListWork]]:
    """Lists scored and analysed before, newest first; of one dataset or version, if `data` names it."""
    return get("/v1/lists", Page[ListWork], data=data, after=after, limit=limit)

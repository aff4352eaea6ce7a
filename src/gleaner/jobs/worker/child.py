"""The process in which one job runs: memory comes back at its end, and a crash stays inside."""

from __future__ import annotations

import importlib
import logging
import shutil
from typing import Any

from sqlalchemy import Engine
from sqlalchemy.exc import OperationalError

from gleaner import logs
from gleaner.core.errors import CancelledError, GleanerError
from gleaner.jobs.worker.context import JobContext
from gleaner.jobs.worker.memory import job_memory_bytes, limit_memory, process_peak
from gleaner.settings import Settings
from gleaner.store import jobs
from gleaner.store.database.engine import make_engine
from gleaner.store.database.outages import is_unavailable
from gleaner.store.files.artefacts import ArtefactStore
from gleaner.store.files.pins import Pins
from gleaner.store.jobs import Claim
from gleaner.wire.common import FieldProblem, Problem
from gleaner.wire.jobs import JobState

log = logging.getLogger("gleaner.jobs")
DATABASE_LOST = 75
"""Exit code of a job whose database went away: it is put back in line, and goes on where it was."""

# the module of each kind, whose `run` does the work
KINDS = {
    "import": "datasets.import_data",
    "contest": "contests.run_contest",
    "split": "datasets.divide_data",
    "forget": "datasets.forget",
    "train": "models.train",
    "take": "models.take_model",
    "lists": "lists.list_all",
    "score-lists": "lists.score_lists",
    "analyse-lists": "lists.analyse_lists",
    "export": "exports.export",
    "gather": "events.gather",
    "refresh": "shelves.refresh_shelf",
    "evaluate-shelf": "shelves.evaluate_shelf",
}


def main(job_id: int) -> int:
    """Claim the job, run it, record how it ended. Answers the exit code: 0 unless the process itself went wrong."""
    logs.set_up()
    settings = Settings()
    engine = make_engine(settings.require_database_url(), pool_size=2, idle_s=settings.locks_end_after_s)
    try:
        with engine.begin() as connection:
            claim = jobs.claim(connection, job_id, settings.max_attempts)
        if claim is not None:
            _run(claim, engine, settings)
    except OperationalError as error:
        if not is_unavailable(error):
            raise
        log.warning("job %s: the database went away (%s)", job_id, error.orig)
        return DATABASE_LOST
    finally:
        engine.dispose()
    return 0


def _run(claim: Claim, engine: Engine, settings: Settings) -> None:
    staging = settings.staging / f"job-{claim.id}-{claim.attempt}"
    staging.mkdir(parents=True)
    limit_memory(job_memory_bytes(settings))
    pins = Pins(engine)
    store = ArtefactStore(settings.artefact_root, settings.home / "cache", pins)
    context = JobContext(claim, engine, settings, store, staging)
    try:
        importlib.import_module(f"gleaner.jobs.{KINDS[claim.kind]}").run(context)
        with engine.begin() as connection:
            jobs.set_peak_memory(connection, claim.id, process_peak())
        return
    except CancelledError:
        ending: dict[str, Any] = {"state": JobState.CANCELLED, "message": "cancelled"}
    except GleanerError as error:
        ending = {"state": JobState.FAILED, "problem": problem_of(error)}
    except MemoryError:
        ending = {"state": JobState.FAILED, "problem": memory_problem(job_memory_bytes(settings))}
    except FileNotFoundError as error:
        ending = {"state": JobState.FAILED, "problem": missing_file_problem(error, settings.artefact_root)}
    except OSError as error:
        text = f"{error.strerror or error} ({error.filename or 'no file named'})"
        ending = {
            "state": JobState.FAILED,
            "problem": _problem("storage", "Files could not be read or written", text),
        }
    except OperationalError as error:
        if is_unavailable(error):
            raise
        ending = _broke(claim, error)
    except Exception as error:
        ending = _broke(claim, error)
    finally:
        shutil.rmtree(staging, ignore_errors=True)
        pins.close()
    with engine.begin() as connection:
        jobs.finish(connection, claim, ending.pop("state"), peak_memory_mb=process_peak(), **ending)


def _broke(claim: Claim, error: Exception) -> dict[str, Any]:
    """How a job ends that met what nobody thought of."""
    log.exception("the job broke", extra={"job": claim.id, "kind": claim.kind, "attempt": claim.attempt})
    # what broke may hold what a caller must not see: the text of a database, or of somebody's rows
    text = f"the job broke ({type(error).__name__}); the worker's log has the details under job {claim.id}"
    return {"state": JobState.FAILED, "problem": _problem("internal", "Something went wrong on our side", text)}


def problem_of(error: GleanerError) -> Problem:
    """A deliberate error as the problem document a caller gets."""
    problem = _problem("input", "What was given is wrong", error.message)
    problem.errors = [FieldProblem(field=error.where, message=error.message)] if error.where else []
    problem.status = 422
    return problem


def missing_file_problem(error: FileNotFoundError, artefact_root: str) -> Problem:
    """Return how a job ends whose file was gone: a file of a version that was rewritten or removed while it was read,
    or any other."""
    if artefact_root in str(error):
        text = "rows that the job read were rewritten or removed meanwhile: a user was forgotten, or a version removed"
        problem = _problem("conflict", "That cannot be done as things stand", f"{text}; run it again")
        problem.status = 409
        return problem
    text = f"{error.strerror or error} ({error.filename or 'no file named'})"
    return _problem("storage", "Files could not be read or written", text)


def memory_problem(n_bytes: int) -> Problem:
    """Return how a job ends that needs more memory than a job may take."""
    text = f"the job needs more than {n_bytes >> 20:,} MB; make its data smaller, or set GLEANER_JOB_MEMORY_MB higher"
    return _problem("memory", "The job needs too much memory", text)


def _problem(name: str, title: str, detail: str) -> Problem:
    return Problem(type=f"urn:gleaner:problem:{name}", title=title, status=500, detail=detail)

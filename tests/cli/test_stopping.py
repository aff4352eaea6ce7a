"""Ctrl-C while a job runs: the job is cancelled, and what is kept of it is said; models are taken away again."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest

from gleaner.client import NotFoundError, RefusedError, calls, contest_calls, job_calls, model_calls
from gleaner.wire.jobs import JobState
from stack import wait_for

CONTEST = """
contest: broken-off
data: seeds@1
prepare: {kinds: {view: 1, save: 3, request: 5}, min_user: 5, min_item: 5}
contenders:
  - popular
  - bpr: {rank: 200, iterations: 1000}
rank: {metrics: [ndcg], decide_by: ndcg@10}
"""


def interrupted(stack, *arguments: str, when) -> tuple[int, str]:
    """Run a command as a shell does, send it Ctrl-C when something holds, answer exit code and what it said."""
    process = subprocess.Popen(
        [Path(sys.executable).parent / "gleaner", *arguments],
        env=os.environ | {"GLEANER_URL": stack.url, "COLUMNS": "140"},
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    wait_for(when, 60)
    process.send_signal(signal.SIGINT)
    return process.wait(60), process.communicate()[1]


def test_a_contest_that_is_broken_off_says_what_is_kept_and_how_to_go_on(demo, tmp_path):
    file = tmp_path / "contest.yaml"
    file.write_text(CONTEST)

    def one_is_done() -> bool:
        runs = [run for run in demo.client.send(contest_calls.list_runs()).items if run.contest == "broken-off"]
        return bool(runs) and any(each.model for each in demo.client.send(calls.run(runs[0].name)).standings)

    code, output = interrupted(demo, "contest", "run", str(file), when=one_is_done)
    assert code == 130
    run = demo.client.send(calls.run("broken-off@1"))
    assert demo.client.send(job_calls.job(run.job)).state is JobState.CANCELLED
    text = " ".join(output.split())
    assert f"job {run.job} (contest broken-off) is cancelled; kept of it: broken-off.popular@1" in text
    assert "`gleaner model remove MODEL` takes one away" in text
    assert "`gleaner contest run` of the file begins a new run" in text

    removed = demo.gleaner("model", "remove", "broken-off.popular@1")
    assert (removed.returncode, removed.stdout.strip()) == (0, "broken-off.popular@1 is gone")
    with pytest.raises(NotFoundError, match=r"there is no model 'broken-off.popular@1'"):
        demo.client.send(calls.model("broken-off.popular@1"))


def test_a_training_that_is_broken_off_keeps_nothing(demo, tmp_path):
    def runs() -> list:
        jobs = demo.client.send(job_calls.list_jobs()).items
        return [job for job in jobs if job.kind == "train" and job.state is JobState.RUNNING]

    (tmp_path / "prepare.yaml").write_text("prepare: {kinds: {view: 1, save: 3}}\n")
    how = ["--set", "rank=200", "--set", "iterations=1000", "--prepare", str(tmp_path / "prepare.yaml"), "--yes"]
    code, output = interrupted(demo, "model", "train", "seeds", "bpr", "--name", "given-up", *how, when=runs)
    assert code == 130
    assert "is cancelled; nothing of it is kept. The same command starts it again" in " ".join(output.split())


def test_a_model_that_a_shelf_names_stays(demo):
    with pytest.raises(RefusedError, match=r"first-look\.als@1 is named by for-growers@1"):
        demo.client.send(model_calls.remove_model("first-look.als@1"))
    assert demo.client.send(calls.model("first-look.als@1")).name == "first-look.als@1"

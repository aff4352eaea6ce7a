"""Processes are killed at work: their jobs are run again or fail with the reason, and the state stays whole."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

import psycopg
import pytest

from demo_state import demo_home
from gleaner.client import JobFailedError, calls
from gleaner.demo.full import Demo
from gleaner.launch.ports import free_port
from gleaner.wire.imports import Roles
from stack import Stack, wait_for

LONG = """\
contest: {name}
data: seeds@1
prepare: {{kinds: {{view: 1, save: 3, request: 5}}}}
contenders: [popular, item_knn, {{als: {{iterations: {iterations}, rank: 64}}}}]
"""


def long_contest(stack: Stack, name: str, iterations: int = 1000):
    """A contest that is well into its last contender."""
    run = stack.queue_contest(LONG.format(name=name, iterations=iterations))
    wait_for(lambda: "als: fitting" in stack.client.send(calls.job(run.job)).message)
    return run


def children_of(process: int) -> list[int]:
    """Return the processes that any of its threads started. A thread may end while they are listed."""
    texts: list[str] = []
    for thread in os.listdir(f"/proc/{process}/task"):
        with suppress(FileNotFoundError, ProcessLookupError):
            texts.append(Path(f"/proc/{process}/task/{thread}/children").read_text())
    return [int(child) for text in texts for child in text.split()]


def child_of_worker(stack: Stack) -> int:
    """The process of the one job that runs: forked from a process of the worker's that does nothing else."""
    result = [job for job_forker in children_of(stack.process("worker").pid) for job in children_of(job_forker)]
    assert len(result) == 1
    return result[0]


def is_gone(process: int) -> bool:
    try:
        return Path(f"/proc/{process}/stat").read_text().rsplit(")", 1)[1].split()[0] == "Z"
    except (FileNotFoundError, ProcessLookupError):
        return True


def no_trace(stack: Stack, job: int) -> bool:
    return not list((stack.home / "staging").glob(f"job-{job}-*"))


def test_a_running_job_is_cancelled(demo):
    run = long_contest(demo, "cancel-me")
    demo.client.send(calls.cancel_job(run.job))
    with pytest.raises(JobFailedError, match="cancelled"):
        demo.client.wait(run.job)
    job = demo.client.send(calls.job(run.job))
    assert job.state == "cancelled"
    assert job.log[-1].text == "cancelled"
    wait_for(lambda: no_trace(demo, run.job))
    # what was finished before stays, the contender that was cut off left nothing
    assert {s.contender for s in demo.client.send(calls.run(run.name)).standings} == {"popular", "item_knn"}


def test_a_job_whose_process_is_killed_fails_with_the_reason(demo):
    run = long_contest(demo, "kill-child")
    os.kill(child_of_worker(demo), signal.SIGKILL)
    with pytest.raises(JobFailedError, match="was killed by SIGKILL; the machine may have run out of memory"):
        demo.client.wait(run.job)
    wait_for(lambda: no_trace(demo, run.job))


def test_the_process_that_jobs_are_forked_from_is_replaced_when_killed(demo):
    run = long_contest(demo, "kill-template")
    job = child_of_worker(demo)
    [template] = [each for each in children_of(demo.process("worker").pid) if job in children_of(each)]
    os.kill(template, signal.SIGKILL)
    with pytest.raises(JobFailedError, match="the process of this job was killed by SIGKILL"):
        demo.client.wait(run.job)
    wait_for(lambda: is_gone(job))
    wait_for(lambda: no_trace(demo, run.job))
    assert demo.add("after-template", "user,item\nu,a\n", Roles(user="user", item="item")).rows == 1


def test_a_job_whose_worker_is_killed_is_taken_up_again_where_it_was(demo):
    run = long_contest(demo, "kill-worker", iterations=40)
    child = child_of_worker(demo)
    demo.kill("worker")
    wait_for(lambda: is_gone(child))
    job = demo.client.wait(run.job)
    assert job.attempt == 2
    log = [line.text for line in demo.client.send(calls.job(run.job)).log]
    assert "popular: finished in an earlier attempt" in log
    # the fit that was cut off began again: each of its iterations is told once
    rounds = demo.client.send(calls.job_rounds(job.id))
    for part in {each.part for each in rounds}:
        iterations = [each.iteration for each in rounds if (each.contender, each.part) == ("als", part)]
        assert iterations == list(range(1, 41)), part
    assert "attempt 2 begins (the one before did not end)" in log
    standings = demo.client.send(calls.run(run.name)).standings
    assert sorted(s.contender for s in standings) == ["als", "item_knn", "popular"]
    assert demo.sql("SELECT count(*) FROM models WHERE name LIKE 'kill-worker.%%'") == [(3,)]
    assert next(s for s in standings if s.contender == "als").against_popular.verdict == "better"


TUNED = """\
contest: {name}
data: seeds@1
prepare: {{kinds: {{view: 1, save: 3, request: 5}}}}
rank: {{at: [10], metrics: [ndcg], decide_by: ndcg@10}}
contenders: [popular, {{als: {{rank: {{choose: [8, 16, 32]}}, regularisation: {{between: [0.01, 1], log: true}}}}}}]
tune: {{attempts: 9}}
"""


def test_a_search_whose_worker_is_killed_goes_on_as_it_would_have(demo):
    from gleaner.client import contest_calls

    def attempts(run) -> list:
        [tuning] = demo.client.send(contest_calls.tuning(run.name))
        return [(each.number, each.chosen, each.state, each.value) for each in tuning.attempts]

    run = demo.queue_contest(TUNED.format(name="kill-search"))
    wait_for(lambda: len(attempts(run)) >= 3)
    child = child_of_worker(demo)
    demo.kill("worker")
    wait_for(lambda: is_gone(child))
    assert len(attempts(run)) < 9
    assert demo.client.wait(run.job).attempt == 2
    undisturbed = demo.run_contest(TUNED.format(name="whole-search"))
    assert attempts(run) == attempts(undisturbed)
    figures = [[each.figures for each in demo.client.send(calls.run(one.name)).standings] for one in (run, undisturbed)]
    assert figures[0] == figures[1]


def test_a_worker_that_stood_still_leaves_the_attempt_that_followed_alone(demo):
    run = long_contest(demo, "stand-still", iterations=60)
    child, worker = child_of_worker(demo), demo.process("worker")
    second = None
    try:
        for each in (child, worker.pid):
            os.kill(each, signal.SIGSTOP)
        environment = demo.supervisor._environment()
        second = subprocess.Popen([sys.executable, "-m", "gleaner.jobs"], env=environment, start_new_session=True)
        wait_for(lambda: demo.client.send(calls.job(run.job)).attempt == 2, 60)
        wait_for(lambda: "als: fitting" in demo.client.send(calls.job(run.job)).message, 60)
        staging = demo.home / "staging" / f"job-{run.job}-2"
        assert staging.is_dir()
        for each in (child, worker.pid):
            os.kill(each, signal.SIGCONT)
        # the first attempt learns that it is void, ends, and its worker tidies up after it and after nobody else
        wait_for(lambda: is_gone(child))
        wait_for(lambda: not (demo.home / "staging" / f"job-{run.job}-1").exists())
        assert demo.client.wait(run.job).attempt == 2
        wait_for(lambda: no_trace(demo, run.job))
    finally:
        for each in (child, worker.pid):
            if not is_gone(each):
                os.kill(each, signal.SIGCONT)
        if second is not None:
            second.terminate()
            second.wait()


def test_forgetting_a_user_is_whole_when_the_worker_is_killed_at_its_end(demo):
    roles = Roles(user="user", item="item")
    for text in ("user,item\nu1,a\nu2,b\n", "user,item\nu1,a\nu1,c\nu2,b\n"):
        demo.add("crash-forget", text, roles)
    with psycopg.connect(demo.database_url) as holder:
        # hold one version back, so that the job waits in the midst of swapping all of them
        holder.execute(
            "SELECT 1 FROM versions v JOIN datasets d ON d.id = v.dataset_id "
            "WHERE d.name = 'crash-forget' AND v.number = 2 FOR UPDATE OF v"
        )
        job = demo.client.send(calls.forget_user("crash-forget", "u1"))
        waiting = "SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query LIKE 'UPDATE versions%%'"
        wait_for(lambda: demo.sql(waiting))
        assert demo.client.send(calls.dataset_version("crash-forget", 1)).users == 2
        child = child_of_worker(demo)
        demo.kill("worker")
        # the kernel kills the job's process in turn; the lock must not be let go before that
        wait_for(lambda: is_gone(child))
    done = demo.client.wait(job.id)
    assert (done.attempt, done.result["rows"], done.result["versions"]) == (2, 3, ["crash-forget@1", "crash-forget@2"])
    for number in (1, 2):
        version = demo.client.send(calls.dataset_version("crash-forget", number))
        assert (version.users, version.forgotten) == (1, 1)
    wait_for(lambda: no_trace(demo, job.id))


def test_a_worker_that_is_stopped_puts_its_job_back(demo):
    run = long_contest(demo, "stop-worker", iterations=40)
    demo.process("worker").terminate()
    job = demo.client.wait(run.job)
    assert (job.state, job.attempt) == ("done", 2)
    assert demo.sql("SELECT losses FROM jobs WHERE id = %s", run.job) == [(0,)]


def ports_of(process: int) -> list[int]:
    """Return the local ports of a process's connections. A file may be closed while they are listed."""
    links: list[str] = []
    for descriptor in os.listdir(f"/proc/{process}/fd"):
        with suppress(FileNotFoundError):
            links.append(os.readlink(f"/proc/{process}/fd/{descriptor}"))
    sockets = {link.removeprefix("socket:[").rstrip("]") for link in links if link.startswith("socket:")}
    rows = [line.split() for line in Path("/proc/net/tcp").read_text().splitlines()[1:]]
    return [int(row[1].partition(":")[2], 16) for row in rows if row[9] in sockets]


def test_a_job_goes_on_when_its_connections_end(demo):
    run = long_contest(demo, "lose-database", iterations=40)
    ports = ports_of(child_of_worker(demo))
    ended = demo.sql("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE client_port = ANY(%s)", ports)
    assert ended
    job = demo.client.wait(run.job)
    assert job.state == "done"


def test_a_web_service_that_is_killed_comes_back(demo):
    before = demo.client.send(calls.recommend("for-growers", user="g-0417", n=5))
    demo.kill("web service")
    after = wait_for(lambda: answer_of(demo))
    assert [place.item for place in after.list] == [place.item for place in before.list]


def answer_of(stack: Stack):
    from gleaner.client import ClientError

    try:
        return stack.client.send(calls.recommend("for-growers", user="g-0417", n=5))
    except ClientError:
        return None


def test_an_upload_that_breaks_off_leaves_nothing(demo):
    import socket

    before = demo.files()
    host, port = demo.url.removeprefix("http://").split(":")
    with socket.create_connection((host, int(port))) as connection:
        head = f"POST /v1/uploads?file=x.csv HTTP/1.1\r\nHost: {host}:{port}\r\nContent-Length: 1000000\r\n\r\n"
        connection.sendall(head.encode() + b"user,item\n" * 50_000)
        wait_for(lambda: any(name.endswith(".part") for name in demo.files()))
    wait_for(lambda: demo.files() <= before)


def test_a_damaged_model_is_refused_by_its_hash(demo):
    name = demo.run_contest(LONG.format(name="damaged", iterations=1)).standings[0].model
    digest = demo.client.send(calls.model(name)).state_sha256
    path = demo.home / "artefacts" / digest[:2] / digest
    content = path.read_bytes()
    path.write_bytes(content[:-1] + bytes([content[-1] ^ 1]))
    try:
        response = demo.http.get(f"/v1/models/{name}/users/g-0417/recommendations")
        assert response.status_code == 422
        assert "is damaged: its bytes do not match its hash" in response.json()["detail"]
    finally:
        path.write_bytes(content)


def test_everything_killed_at_once_is_whole_after_a_restart():
    """The supervisor itself is killed in the middle of a contest; the next start goes on with it."""
    home = demo_home()
    port = free_port()
    environment = os.environ | {"GLEANER_HEARTBEAT_S": "0.5", "GLEANER_STALLED_AFTER_S": "4"}
    up = [Path(sys.executable).parent / "gleaner", "up", "--home", str(home), "--port", str(port)]
    first = subprocess.Popen(up, env=environment, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert "console and API" in first.stdout.readline()
    from gleaner.client import Client

    with Client(f"http://127.0.0.1:{port}") as client:
        from gleaner.wire.contests.contest import FileRequest

        run = client.send(calls.run_contest(FileRequest(file=LONG.format(name="survivor", iterations=40))))
        wait_for(lambda: "als: fitting" in client.send(calls.job(run.job)).message)
    first.kill()
    first.wait()
    first.stdout.close()
    first.stderr.close()
    second = Stack(home=home, heartbeat_s=0.5, stalled_after_s=4.0)
    try:
        assert second.client.wait(run.job).state == "done"
        assert second.client.send(calls.run("survivor")).winner == "als"
        assert second.client.send(calls.recommend("for-growers", user="g-0417", n=3)).fallback is None
        wait_for(lambda: no_trace(second, run.job))
    finally:
        second.stop()


def test_the_demo_again_keeps_what_is_there(demo, capsys):
    runs = demo.sql("SELECT count(*) FROM runs WHERE contest = 'first-look'")
    Demo(demo.url).run()
    assert demo.sql("SELECT count(*) FROM runs WHERE contest = 'first-look'") == runs
    assert "seeds@1 is here from an earlier run" in capsys.readouterr().out

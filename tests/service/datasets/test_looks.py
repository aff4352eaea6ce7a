"""A look at every row before an import, columns made of others in a proposal, and finding rows by what they are called."""

from __future__ import annotations

import pytest

from gleaner.client import JobFailedError, NotFoundError, RefusedError, calls, data_calls
from gleaner.wire.imports import Derive, ImportRequest, ProposalRequest, Roles

ROWS = "who,what,when,stars\na,x,03.04.2024,4\nb,y,05.04.2024,9\na,y,,5\n,y,06.04.2024,5\n"
ROLES = Roles(user="who", item="what", value="stars")


def request(stack, **more) -> ImportRequest:
    file = stack.send_text(ROWS, "rows.csv")
    given = {"interactions": file, "roles": ROLES, "strictness": "lenient", "scale": (1, 5)}
    return ImportRequest(**given | more)


def artefacts(stack):
    """What is kept for good; uploads of other tests come and go."""
    return {file for file in stack.files() if file.startswith("artefacts")}


def test_a_look_tells_what_an_import_would_keep_and_keeps_nothing(stack):
    wanted = request(stack, only_look=True)
    before = artefacts(stack)
    job = stack.client.wait(stack.client.send(calls.import_version("looked-at", wanted)).id)
    look = stack.client.send(data_calls.import_look(job.id))
    assert (look.rows, look.users, look.items) == (2, 1, 2)
    [file] = look.report.files
    assert (file.rows_read, file.rows_kept) == (4, 2)
    assert sorted((each.reason, each.rows) for each in file.dropped) == [
        ("outside the declared scale 1 to 5", 1),
        ("who is empty", 1),
    ]
    with pytest.raises(NotFoundError):
        stack.client.send(calls.dataset("looked-at"))
    assert artefacts(stack) == before
    # the file that was sent is still there for the import itself, and goes with it
    stack.client.wait(
        stack.client.send(calls.import_version("looked-at", wanted.model_copy(update={"only_look": False}))).id
    )
    version = stack.client.send(calls.dataset_version("looked-at", 1))
    assert version.report == look.report
    assert (version.rows, version.users, version.items) == (look.rows, look.users, look.items)


def looked(stack, text: str, **more):
    wanted = request(stack, only_look=True, **more)
    wanted = wanted.model_copy(update={"interactions": stack.send_text(text, "rows.csv")})
    job = stack.client.wait(stack.client.send(calls.import_version("never", wanted)).id)
    return stack.client.send(data_calls.import_look(job.id))


def warnings(look) -> list[str]:
    return [each.text for each in look.report.findings if each.level == "warning"]


@pytest.mark.parametrize("outside", [None, "refuse"])
def test_a_look_goes_on_after_bad_rows_that_would_refuse_the_import(stack, outside):
    look = looked(stack, ROWS, strictness="normal", outside=outside)
    assert (look.rows, look.report.strictness) == (2, "normal")
    assert warnings(look)[0] == (
        "with the strictness normal this import would be refused: 2 rows cannot be used, see below. Choose lenient to "
        "import the rest"
    )
    dropped = {each.reason: (each.rows, each.examples) for each in look.report.files[0].dropped}
    assert dropped == {
        "who is empty": (1, ["row 5: ''"]),
        "outside the declared scale 1 to 5": (1, ["row 3: 9"]),
    }


def test_a_look_refuses_no_row_that_the_import_drops_as_asked(stack):
    outside = "who,what,when,stars\na,x,,4\na,y,,9\nb,x,,5\n"
    look = looked(stack, outside, strictness="normal", outside="drop")
    assert look.rows == 2
    assert not any("refused" in text for text in warnings(look))


def test_a_look_says_what_a_strict_import_would_refuse(stack):
    repeated = "who,what,when,stars\na,x,,4\na,x,,4\n"
    first = warnings(looked(stack, repeated, strictness="strict"))[0]
    assert first == "with the strictness strict this import would be refused: there is 1 warning"
    assert not any("refused" in text for text in warnings(looked(stack, repeated, strictness="normal")))


def test_a_look_in_which_most_rows_would_be_dropped_asks_for_attention(stack):
    rows = "who,what,when,stars\na,x,,4\n" + "b,y,,50\n" * 3
    [warning] = [text for text in warnings(looked(stack, rows)) if "only" in text]
    assert warning == (
        "rows.csv: only 1 of 4 rows are kept. Of the others 3 have the same reason (outside the declared scale 1 to 5): is "
        "its column declared as it is?"
    )


def test_an_import_that_cannot_be_made_at_all_fails_in_a_look_too(stack):
    job = stack.client.send(
        calls.import_version("never", request(stack, only_look=True, roles=Roles(user="nobody", item="what")))
    )
    with pytest.raises(JobFailedError, match="has no column 'nobody'"):
        stack.client.wait(job.id)
    with pytest.raises(NotFoundError, match=f"job {job.id} is no import that only looked and has ended well"):
        stack.client.send(data_calls.import_look(job.id))


def test_the_command_looks_only(stack, tmp_path):
    file = tmp_path / "rows.csv"
    file.write_text(ROWS)
    roles = ("--user", "who", "--item", "what", "--strictness", "lenient")
    looked = stack.gleaner("data", "add", "by-command", str(file), *roles, "--only-look")
    assert looked.returncode == 0
    assert "An import would keep 3 rows of 2 users and 2 items" in looked.stdout
    assert "dropped: 1 because who is empty" in looked.stdout


def test_a_proposal_knows_columns_that_are_made_of_others(stack):
    file = stack.send_text(ROWS, "rows.csv")

    def proposed(*steps: Derive):
        source = file.model_copy(update={"derive": list(steps)})
        return stack.client.send(calls.propose(ProposalRequest(interactions=source)))

    [shown] = proposed(Derive(split="when", by=".", into=["day", "month", "year"])).files
    assert {each.column: each.examples for each in shown.columns}["month"] == ["04"]
    timed = proposed(Derive(time="when", format="%d.%m.%Y"))
    assert timed.roles["time"] == "when"
    assert timed.files[0].preview[0][2].startswith("2024-04-03")
    # a wrong step is a problem of the answer, which shows the rows as they are in the file
    wrong = proposed(Derive(split="whn", by=".", into=["day"]))
    [problem] = wrong.problems
    assert problem.field == "interactions.derive.0"
    assert "needs column 'whn'; did you mean 'when'" in problem.message
    assert wrong.files[0].part == "interactions"


def test_a_proposal_knows_columns_of_a_table_that_is_joined(stack):
    joined = stack.send_text("code,climbing,since\nx,yes,2020\ny,no,2021\n", "families.csv")
    source = stack.send_text(ROWS, "rows.csv").model_copy(
        update={"derive": [Derive(join="families", on="what", key="code", take=["climbing"])]}
    )
    proposal = stack.client.send(calls.propose(ProposalRequest(interactions=source, tables={"families": joined})))
    assert [each.part for each in proposal.files] == ["interactions", "tables.families"]
    assert [each.column for each in proposal.files[1].columns] == ["code", "climbing", "since"]
    assert {each.column: each.examples for each in proposal.files[0].columns}["climbing"] == ["yes", "no"]
    [problem] = stack.client.send(calls.propose(ProposalRequest(interactions=source))).problems
    assert problem.field == "interactions.derive.0.join"
    assert "joins table 'families', which the import does not name" in problem.message


def test_items_are_found_by_what_they_are_called(demo):
    rows = demo.client.send(calls.query("seeds", 1, "SELECT id, name FROM items WHERE lower(name) LIKE '%ruby%'")).rows
    found = demo.client.send(calls.find_items("seeds", 1, "RuBy", 100))
    activity = {each.item: each.rows for each in found}
    assert {(each.item, each.label) for each in found} == {tuple(row) for row in rows}
    assert list(activity.values()) == sorted(activity.values(), reverse=True)
    # an id that is typed out stands first
    assert demo.client.send(calls.find_items("seeds", 1, "V-0784", 2))[0].item == "v-0784"
    assert demo.client.send(calls.find_items("seeds", 1, "no such name")) == []
    # an item that nobody has met stands in the table only
    [unmet] = demo.client.send(calls.find_items("seeds", 1, "v-0350", 1))
    assert (unmet.item, unmet.rows) == ("v-0350", 0)
    assert unmet.label
    assert demo.client.send(calls.find_users("seeds", 1, "g-0417"))[0].user == "g-0417"
    printed = demo.gleaner("data", "find", "seeds", "ruby", "-n", "3")
    assert found[0].label in printed.stdout


def test_the_data_of_the_example_is_not_brought_in_over_other_data(demo):
    with pytest.raises(RefusedError, match="the data of the example is here, or other data of its name: seeds@"):
        demo.client.send(data_calls.bring_example_data())

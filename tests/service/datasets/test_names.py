"""A column of names called otherwise, and number columns with a few cells that are none: nothing is lost unseen."""

from __future__ import annotations

import pytest

from commands import call
from gleaner.client import JobFailedError, calls, data_calls, model_calls, shelf_calls
from gleaner.wire.imports import ColumnType, ImportRequest, ProposalRequest, Roles
from gleaner.wire.shelves.publishing import PublishRequest
from stack import Stack

ROWS = "user,item\n" + "\n".join(f"t{n % 30},i{(n * 7 + n // 30) % 40}" for n in range(300)) + "\n"
ITEMS = "sku,titel,preis,name_id\n" + "".join(
    f"i{n},Saatgut Nummer {n},{'auf Anfrage' if n == 17 else n + 0.5},c{n % 4}\n" for n in range(40)
)
CONTEST = "contest: titled\ndata: titled\nsplit: {by: user_rows, test: 0.2}\ncontenders: [popular, item_knn]\n"
SHELF = "shelf: titled\ncandidates: [{model: titled.item_knn}]\nfallback: [{model: titled.popular}]\nshow: [name]\n"


def request(stack: Stack, **how) -> ImportRequest:
    items = stack.send_text(ITEMS, "items.csv").model_copy(update={"id": "sku", **how})
    return ImportRequest(
        interactions=stack.send_text(ROWS, "rows.csv"), items=items, roles=Roles(user="user", item="item")
    )


def bring(stack: Stack, dataset: str, **how):
    job = stack.client.wait(stack.client.send(calls.import_version(dataset, request(stack, **how))).id)
    dataset, number = job.result["version"].split("@")
    return stack.client.send(calls.dataset_version(dataset, int(number)))


def notes(version) -> list[str]:
    return [each.text for each in version.report.findings if each.code == "note"]


@pytest.fixture(scope="module")
def titled(stack):
    version = bring(stack, "titled")
    assert any("--items-name titel shows them" in text for text in notes(version))
    return bring(stack, "titled", name="titel")


def test_a_number_column_stays_one_in_spite_of_a_bad_cell(titled):
    columns = {each.name: (each.type, each.missing) for each in titled.item_columns}
    assert columns["preis"] == ("number", 1)
    assert (
        "items.csv: 1 of 40 cells of preis are read as missing, such as row 19: 'auf Anfrage' is not a number; to keep them, "
        "declare preis as text or category"
    ) in notes(titled)


def test_a_declared_number_column_refuses_a_bad_cell(stack):
    with pytest.raises(JobFailedError, match=r"items.csv row 19: preis 'auf Anfrage' is not a number"):
        bring(stack, "refused", types={"preis": ColumnType(type="number")})
    kept = bring(stack, "kept-texts", types={"preis": ColumnType(type="text")})
    assert {each.name: each.type for each in kept.item_columns}["preis"] == "text"


def test_names_are_proposed(stack):
    whole = request(stack)
    proposal = stack.client.send(
        data_calls.propose(ProposalRequest(interactions=whole.interactions, items=whole.items))
    )
    columns = {each.column: (each.role, each.reason) for each in proposal.files[1].columns}
    assert columns["titel"] == ("name", "what people call each row, by its name")
    assert columns["preis"] == (None, "39 of 40 cells are numbers; the others would be missing")


def test_names_are_shown_wherever_items_are(stack, titled):
    assert {each.name: each.type for each in titled.item_columns} == {
        "id": "id", "name": "text", "preis": "number", "name_id": "category",
    }  # fmt: skip
    stack.run_contest(CONTEST)
    listed = stack.client.send(model_calls.model_recommend("titled.item_knn", "t1", 3)).list
    assert all(place.columns["name"] == f"Saatgut Nummer {place.item[1:]}" for place in listed)
    found = stack.client.send(data_calls.find_items("titled", titled.number, "nummer 17"))
    assert [(each.item, each.label) for each in found] == [("i17", "Saatgut Nummer 17")]
    explained = stack.client.send(model_calls.explain("titled.item_knn", "t1", listed[0].item))
    assert all(term.name == f"Saatgut Nummer {term.id[1:]}" for term in explained.terms)
    stack.client.send(shelf_calls.publish_shelf(PublishRequest(file=SHELF)))
    answer = stack.client.send(shelf_calls.recommend("titled", user="t1", n=2, explain=True))
    assert all(place.columns == {"name": f"Saatgut Nummer {place.item[1:]}"} for place in answer.list)
    assert all("Saatgut Nummer" in str(place.reason) for place in answer.list)


@pytest.mark.parametrize(
    ("column", "problem"),
    [
        ("titl", r"items.csv has no column 'titl' \(given as the item's name\); did you mean|its columns are"),
        ("sku", "'sku' is the item's id and cannot be its name"),
    ],
)
def test_a_wrong_column_of_names_is_refused(stack, column, problem):
    with pytest.raises(JobFailedError, match=problem):
        bring(stack, "misnamed", name=column)


def test_a_column_of_names_that_is_declared_as_something_else_is_refused(stack):
    with pytest.raises(
        JobFailedError, match="'titel' holds the item's name and is declared as ignored; a name is text"
    ):
        bring(stack, "misnamed", name="titel", types={"titel": ColumnType(type="ignored")})


def test_the_command_names_the_column(stack, tmp_path):
    (tmp_path / "rows.csv").write_text(ROWS)
    (tmp_path / "items.csv").write_text(ITEMS)
    files = [str(tmp_path / "rows.csv"), "--items", str(tmp_path / "items.csv"), "--items-id", "sku"]
    roles = ["--user", "user", "--item", "item"]
    code, out, err = call("data", "add", "titled-by-command", *files, *roles, "--items-name", "titel",
                          GLEANER_URL=stack.url)  # fmt: skip
    assert (code, "name (text)" in out) == (0, True), err
    code, out, err = call("data", "add", "titled-by-command", *files, "--yes", GLEANER_URL=stack.url)
    assert (code, "name (text)" in out) == (0, True), err
    code, _, err = call("data", "add", "nothing", files[0], "--items-name", "titel", GLEANER_URL=stack.url)
    assert (code, "--items-name goes with --items" in err) == (2, True)

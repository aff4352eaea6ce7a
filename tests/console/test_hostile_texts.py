"""Texts of somebody's data are shown as texts: no name of an item or a user becomes markup or script."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

from gleaner.client import model_calls, shelf_calls
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.imports import Roles
from gleaner.wire.models.training import TrainRequest

MARKUP = "<img src=x onerror=\"window.ran='image'\"><script>window.ran='script'</script>"
LINK = "javascript:window.ran='link'"


@pytest.fixture(scope="module")
def hostile(demo) -> str:
    names = {f"i{n}": MARKUP if n % 2 else LINK for n in range(8)} | {"<b>i9</b>": "'\"><svg onload=window.ran='svg'>"}
    quoted = {item: '"' + name.replace('"', '""') + '"' for item, name in names.items()}
    rows = "user,item,kind,time\n" + "".join(
        f"<i>u{n % 7}</i>,{list(names)[(n * n) % 9]},{{{{7*7}}}},2026-01-{1 + n % 28:02d}T00:00:00Z\n"
        for n in range(80)
    )
    items = "item,name,text\n" + "".join(f"{item},{name},{name}\n" for item, name in quoted.items())
    demo.add("hostile", rows, Roles(user="user", item="item", kind="kind", time="time"), items=items)
    request = TrainRequest(data="hostile@1", family="popular", name="hostile.popular")
    demo.client.wait(demo.client.send(model_calls.train_model(request)).id)
    file = "shelf: hostile\ncandidates: [{model: hostile.popular}]\nfallback: [{model: hostile.popular}]\nshow: [name, text]\n"
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=file)))
    return "hostile"


@pytest.mark.parametrize(
    "path",
    [
        "/data/hostile@1", "/data/hostile@1?part=rows", "/data/hostile@1?part=item&item=i1", "/taste/hostile",
        "/shelves/hostile", "/shelves/hostile?part=try", "/models/hostile.popular@1?part=recommend", "/live/hostile",
        "/data/hostile@1?part=sql",
    ],
)  # fmt: skip
def test_no_page_runs_what_a_text_says(page, hostile, path):
    page.goto(path)
    expect(page.get_by_role("heading", level=1)).to_be_visible()
    expect(page.get_by_role("status", name="Loading")).to_have_count(0)
    assert page.evaluate("window.ran") is None
    assert page.locator("img[onerror], svg[onload], a[href^='javascript:']").count() == 0


def test_a_hostile_name_is_shown_to_the_letter(page, hostile):
    page.goto("/taste/hostile")
    expect(page.get_by_text(MARKUP, exact=False).first).to_be_visible()
    assert page.evaluate("window.ran") is None


def test_the_policy_forbids_inline_script(demo):
    policy = demo.http.get("/").headers["content-security-policy"]
    parts = {part.split()[0]: part.split()[1:] for part in policy.split(";") if part.strip()}
    assert parts["script-src"] == ["'self'"]
    assert (parts["object-src"], parts["base-uri"]) == (["'none'"], ["'none'"])


def test_a_script_that_got_into_a_page_would_not_run(browser, demo):
    """Whatever found its way past the texts meets the policy."""
    context = browser.new_context(base_url=demo.url)
    page = context.new_page()
    page.goto("/")
    blocked = page.evaluate(
        """() => new Promise((done) => {
            document.addEventListener("securitypolicyviolation", (event) => done(event.violatedDirective));
            const script = document.createElement("script");
            script.textContent = "window.ran = 'inline'";
            document.body.append(script);
        })"""
    )
    assert blocked.startswith("script-src")
    assert page.evaluate("window.ran") is None
    context.close()

"""A Varlen in which there is nothing yet, and pages of what is not there: each says what it is for and what to do."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import PROJECT, running


@pytest.fixture(scope="module")
def empty(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    folder = PROJECT / ".varlen" / "browser-test-empty"
    shutil.rmtree(folder, ignore_errors=True)
    yield from running(folder, 8601, VARLEN_NO_DEMO="1")
    shutil.rmtree(folder, ignore_errors=True)


def test_from_nothing_to_the_first_sheet(page: Page, empty: str, survey_folder: Path, tmp_path: Path) -> None:
    file = shutil.make_archive(str(tmp_path / "first night"), "zip", survey_folder)
    for view, says in (("pipelines", "No pipeline yet"), ("editions", "No edition yet"), ("trials", "Nothing to try yet")):
        page.goto(f"{empty}/{view}")
        expect(page.get_by_role("heading", name=says)).to_be_visible()
    page.goto(empty)
    expect(page.get_by_role("heading", name="The bench needs two things")).to_be_visible()
    page.get_by_role("button", name="New pipeline").press("Enter")
    page.get_by_role("button", name="detection").press("Enter")
    expect(page.get_by_role("listitem").filter(has_text="A pipeline")).to_contain_text("is here")
    page.get_by_role("link", name="Bring in a dataset").press("Enter")
    page.get_by_label("Dataset files").set_input_files(file)
    page.get_by_role("region", name="What was recognised").get_by_role("button", name="Import").click()
    expect(page.get_by_role("link", name="Open it and its findings")).to_be_visible()
    page.get_by_role("link", name="Bench").click()
    expect(page.locator("[data-testid=sheet] figure[data-fresh=true][data-tile]").first).to_be_visible()


@pytest.mark.parametrize(("path", "says", "back"), [("datasets/99", "dataset 99", "All datasets"), ("editions/99", "edition 99", "All editions"),
                                                    ("probes/99", "probe 99", "All trials")])  # fmt: skip
def test_what_is_not_here_is_said_with_a_way_back(page: Page, varlen_address: str, path: str, says: str, back: str) -> None:
    page.goto(f"{varlen_address}/{path}")
    expect(page.get_by_role("heading", name=f"There is no {says} here")).to_be_visible()
    page.get_by_role("link", name=back).click()
    expect(page.get_by_role("heading", name=f"There is no {says} here")).not_to_be_visible()
    assert not page.url.endswith(path)


def test_what_did_not_arrive_is_said_and_can_be_asked_for_again(page: Page, varlen_address: str) -> None:
    """A list, while the server is out of reach, and a view whose script is not there any more, as after an upgrade."""
    page.goto(f"{varlen_address}/pipelines")
    expect(page.get_by_role("article").first).to_be_visible()
    page.route("**/api/editions", lambda route: route.abort())
    page.get_by_role("link", name="Editions").click()
    expect(page.get_by_role("alert")).to_contain_text("The server does not answer")
    page.unroute("**/api/editions")
    page.get_by_role("button", name="Try again").click()
    expect(page.get_by_role("alert")).not_to_be_visible()

    page.context.set_offline(True)
    page.get_by_role("link", name="Trials").click()
    expect(page.get_by_role("alert")).to_contain_text("This view could not be loaded")
    page.context.set_offline(False)
    page.get_by_role("button", name="Reload").click()
    expect(page.get_by_role("table", name="Trials")).to_be_visible()


def test_a_pipeline_opened_from_its_page_is_the_one_on_the_bench(page: Page, varlen_address: str) -> None:
    """The pipelines page is what the browser loads first, and another pipeline was on the bench last."""
    document = {"varlen_pipeline": 1, "name": "Opened from its page", "steps": [{"step": "flip"}]}
    made = page.request.post(f"{varlen_address}/api/pipelines", data={"document": document}).json()["pipeline"]
    page.goto(f"{varlen_address}/pipelines")
    page.get_by_role("article", name="Opened from its page").get_by_role("button", name="Open on the bench").click()
    expect(page.locator("[data-stop]")).to_have_count(1)
    expect(page.get_by_role("banner")).to_contain_text("Opened from its page")
    page.request.delete(f"{varlen_address}/api/pipelines/{made}")

"""The handbook behind Help: reached from every screen, links followed, search answered; what it says of HTTP, done against the application."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import urldefrag, urljoin

import pytest
from playwright.sync_api import Page, expect

from tests.docs.blocks import PROJECT, Runner, blocks


def test_a_newcomer_asks_why_a_box_disappeared(page: Page, varlen_address: str) -> None:
    page.goto(f"{varlen_address}/datasets")
    with page.expect_popup() as opened:
        page.get_by_role("link", name="Help").click()
    handbook = opened.value
    expect(handbook).to_have_url(f"{varlen_address}/help/")
    search = handbook.get_by_role("searchbox").first if handbook.get_by_role("searchbox").count() else handbook.get_by_placeholder("Search").first
    search.fill("box disappear")
    search.press("Enter")
    handbook.get_by_role("link", name="Why did my box disappear?").last.click()
    expect(handbook.get_by_role("heading", name="Why did my box disappear?")).to_be_visible()
    expect(handbook.get_by_text("outside the frame").first).to_be_visible()
    handbook.close()


def test_every_page_and_picture_of_the_handbook_is_served(page: Page, varlen_address: str) -> None:
    seen: set[str] = set()
    todo = [f"{varlen_address}/help/"]
    foreign: set[str] = set()
    while todo:
        address = todo.pop()
        if address in seen:
            continue
        seen.add(address)
        answer = page.request.get(address)
        assert answer.status == 200, address
        if "html" not in answer.headers["content-type"]:
            continue
        page.set_content(answer.text(), wait_until="commit")
        for target in page.evaluate(
            "[...document.querySelectorAll('[href], img[src], script[src]')].map(e => e.getAttribute('href') ?? e.getAttribute('src'))"
        ):
            full = urldefrag(urljoin(address, target)).url
            (todo.append if full.startswith(varlen_address) else foreign.add)(full)
    assert len(seen) > 80
    assert not [each for each in foreign if each.startswith("http") and each.endswith((".js", ".css", ".png", ".woff2"))]


def test_what_the_handbook_says_of_http_is_so(varlen_address: str, survey_folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    runner = Runner(PROJECT / "docs" / "http.md", tmp_path, survey_folder, {"http://127.0.0.1:8417": varlen_address})
    for block in blocks(PROJECT / "docs" / "http.md"):
        runner.run(block)
    assert runner.names["done"]["state"] == "done"

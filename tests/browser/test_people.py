"""A Varlen for a team, as `make serve` runs it: accounts, roles, tokens, and names with scripts in them."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import urllib.error
import urllib.request
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, BrowserContext, ConsoleMessage, Page, expect

from tests.browser.conftest import PATIENCE_MS, PROJECT

PASSWORD = "lamp at the window"
SCRIPT = '"><img src=x onerror="window.hurt=1"><script>window.hurt=1</script>'


@pytest.fixture(scope="module")
def served(survey_folder: Path) -> Iterator[tuple[str, str]]:
    """Where it listens, and the link for the first account."""
    folder = PROJECT / ".varlen" / "people-test"
    shutil.rmtree(folder, ignore_errors=True)
    shutil.copytree(survey_folder, folder / "demo" / "night-moth-survey")
    command = [sys.executable, PROJECT / "scripts" / "start.py", "--sign-in", "--address", "127.0.0.1:8640"]
    process = subprocess.Popen(command, env={**os.environ, "VARLEN_STATE": str(folder), "VARLEN_DEMO_ALONE": "1"}, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    link = next((line.strip() for line in process.stdout if "/join#" in line), "")
    assert link, "it did not start"
    yield link.split("/join#")[0], link
    process.send_signal(signal.SIGINT)
    process.wait(60)
    shutil.rmtree(folder, ignore_errors=True)


def visit(browser: Browser, address: str) -> Page:
    """A browser of somebody else."""
    page = browser.new_context(viewport={"width": 1280, "height": 800}, reduced_motion="reduce").new_page()
    page.set_default_timeout(PATIENCE_MS)
    page.goto(address)
    return page


def join(page: Page, name: str) -> None:
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Make the account").click()
    expect(page.get_by_test_id("sheet").get_by_role("button").first).to_be_visible()


def open_people(page: Page) -> None:
    page.get_by_role("button", name="Signed in as").click()
    page.get_by_role("link", name="People, tokens, log").click()
    expect(page.get_by_role("region", name="Tokens for programs")).to_be_visible()


def ask(address: str, token: str, body: object = None) -> int:
    """The status of an answer to a program with a token."""
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(address, data, {"Authorization": f"Bearer {token}", "Content-Type": "application/json"})
    try:
        with urllib.request.urlopen(request) as answer:
            return int(answer.status)
    except urllib.error.HTTPError as error:
        return error.code


def test_a_team_from_the_first_account_to_a_revoked_token(served: tuple[str, str], browser: Browser) -> None:
    address, link = served
    admin = visit(browser, address)
    expect(admin.get_by_role("heading", name="Sign in")).to_be_visible()
    admin.goto(link)
    join(admin, "luna")

    # An edition to score, and a link for somebody who only looks.
    admin.get_by_role("button", name="Make an edition").click()
    admin.get_by_role("dialog").get_by_role("button", name="Make").last.click()
    expect(admin.get_by_test_id("edition-done")).to_be_visible()
    admin.keyboard.press("Escape")
    open_people(admin)
    admin.get_by_label("What they may").select_option("viewer")
    admin.get_by_role("button", name="Make a link").click()
    invitation = admin.get_by_label("Invitation link").inner_text()

    looker = visit(browser, invitation)
    expect(looker.get_by_text("luna invites you. You may see everything and change nothing.")).to_be_visible()
    join(looker, "ada")
    expect(looker.get_by_role("button", name="Make an edition")).to_have_count(0)
    # Trying a step is looking; nothing of it is saved.
    looker.get_by_role("button", name="Reshuffle").click()
    expect(looker.get_by_text("kept in this browser alone")).to_be_visible()
    looker.keyboard.press("Control+s")
    for path, absent in (
        ("pipelines", "Rename"),
        ("datasets", "Choose an archive or files"),
        ("editions/1", "Verify"),
        ("editions/1", "Delete this edition"),
    ):
        looker.goto(f"{address}/{path}")
        expect(looker.get_by_role("navigation")).to_be_visible()
        looker.wait_for_load_state("networkidle")
        expect(looker.get_by_role("button", name=absent)).to_have_count(0)
    refused = looker.evaluate(
        """async () => [
            (await fetch('/api/imports', {method: 'POST', headers: {'Content-Type': 'application/json'}, body: '{}'})).status,
            (await fetch('/api/editions/1', {method: 'DELETE'})).status,
            (await fetch('/api/people')).status,
            (await fetch('/api/pipelines/1')).status,
        ]"""
    )
    assert refused == [403, 403, 403, 200]
    looker.goto(invitation)
    expect(looker.get_by_text("This invitation was used")).to_be_visible()

    # A program posts a score, until its token is revoked.
    admin.get_by_label("Token's name").fill("training loop")
    admin.get_by_role("button", name="Make a token").click()
    token = admin.get_by_label("New token").inner_text()
    score = {"scores": [{"name": "mAP50", "value": 0.61, "epoch": None, "split": "validation", "note": "", "at": "", "run": ""}]}
    assert ask(f"{address}/api/editions/1/scores", token, score) in (200, 201)
    assert ask(f"{address}/api/datasets", token) == 403
    assert ask(f"{address}/api/editions/1/cancel", token, {}) == 403
    admin.goto(f"{address}/editions/1")
    expect(admin.get_by_text("mAP50").first).to_be_visible()
    open_people(admin)
    admin.get_by_role("button", name="Revoke training loop").click()
    expect(admin.get_by_text("revoked").first).to_be_visible()
    assert ask(f"{address}/api/editions/1/scores", token, score) == 401
    entries = admin.get_by_label("Log entries")
    expect(entries.get_by_text("scored edition 1")).to_be_visible()
    expect(entries.get_by_text("luna (training loop)")).to_be_visible()

    # Shut out, the one who looks is asked to sign in with the next thing done.
    row = admin.get_by_role("row", name="ada")
    row.get_by_role("button", name="Shut out").click()
    expect(admin.get_by_text("ada (shut out)")).to_be_visible()
    looker.goto(address)
    expect(looker.get_by_role("heading", name="Sign in")).to_be_visible()
    looker.get_by_label("Name").fill("ada")
    looker.get_by_label("Password").fill(PASSWORD)
    looker.get_by_role("button", name="Sign in").click()
    expect(looker.get_by_text("Name or password is not right.")).to_be_visible()

    # Out, and in again where one was.
    admin.get_by_role("button", name="Signed in as").click()
    admin.get_by_role("button", name="Sign out").click()
    expect(admin.get_by_role("heading", name="Sign in")).to_be_visible()
    admin.goto(f"{address}/trials")
    admin.get_by_label("Name").fill("luna")
    admin.get_by_label("Password").fill(PASSWORD)
    admin.keyboard.press("Enter")
    expect(admin.get_by_role("table", name="Trials")).to_be_visible()


def test_scripts_in_names_do_nothing(served: tuple[str, str], browser: Browser) -> None:
    """Every name a person can set, opened on every page; and no page of ours breaks its own policy."""
    address, _ = served
    page = visit(browser, address)
    complaints: list[str] = []

    def hear(message: ConsoleMessage) -> None:
        if "Content Security Policy" in message.text or "Refused to" in message.text:
            complaints.append(message.text)

    page.on("console", hear)
    page.get_by_label("Name").fill("luna")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_test_id("sheet")).to_be_visible()
    statuses = page.evaluate(
        """async (bad) => {
            const send = async (method, path, body) => {
                const answer = await fetch(path, {method, headers: {'Content-Type': 'application/json'}, body: JSON.stringify(body)});
                return [answer.status, answer.status < 300 && answer.status !== 204 ? await answer.json() : null];
            };
            const document = {varlen_pipeline: 1, name: bad.slice(0, 100), seed: 1, steps: [{step: 'flip', probability: 0.5}]};
            const made = await send('POST', '/api/pipelines', {document});
            const named = await send('PATCH', `/api/revisions/${made[1].id}`, {name: bad});
            const datasets = await (await fetch('/api/datasets')).json();
            const edition = await send('POST', '/api/editions', {name: bad.slice(0, 100), dataset: datasets[0].id, document: made[1].document});
            const token = await send('POST', '/api/tokens', {name: bad.slice(0, 80), scope: 'read', days: 1});
            const score = await send('POST', '/api/editions/1/scores',
                {scores: [{name: bad, value: 1, epoch: null, split: bad, note: bad, at: '', run: bad}]});
            return [made, named, edition, token, score].map(([status]) => status);
        }""",
        SCRIPT,
    )
    assert all(status < 300 for status in statuses), statuses
    for path in (
        "",
        "pipelines",
        "datasets",
        "datasets/1",
        "editions",
        "editions/1",
        "editions/2",
        "editions/1/against/2",
        "trials",
        "people",
        "help/",
    ):
        page.goto(f"{address}/{path}")
        page.wait_for_load_state("networkidle")
        assert page.evaluate("window.hurt") is None, path
    assert complaints == []


def test_another_site_s_page_can_do_nothing(served: tuple[str, str], browser: Browser, context: BrowserContext) -> None:
    """A page of another origin, opened in a browser that is signed in here: nothing it sends changes anything, and it reads nothing."""
    address, _ = served
    page = visit(browser, address)
    page.get_by_label("Name").fill("luna")
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_test_id("sheet")).to_be_visible()
    before = page.evaluate("fetch('/api/pipelines').then((answer) => answer.json()).then((all) => all.length)")
    page.goto("data:text/html,<h1>elsewhere</h1>")
    outcome = page.evaluate(
        """async (address) => {
            const body = JSON.stringify({document: {varlen_pipeline: 1, name: 'forged', steps: []}});
            const tries = [];
            for (const options of [{method: 'POST', body, mode: 'no-cors', credentials: 'include'}, {credentials: 'include'}])
                tries.push(await fetch(`${address}/api/pipelines`, options).then((answer) => answer.type, () => 'refused'));
            return tries;
        }""",
        address,
    )
    assert outcome[1] == "refused"
    page.goto(address)
    assert page.evaluate("fetch('/api/pipelines').then((answer) => answer.json()).then((all) => all.length)") == before
    # Nor does it come into a frame elsewhere.
    page.set_content(f"<iframe src='{address}' id='inside'></iframe>")
    page.wait_for_timeout(500)
    assert [frame.locator("#root").count() for frame in page.frames[1:]] == [0]

"""Evidence by hand: compare with a field, take a suggested step, see it on the sheet; probe to the verdict."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page, expect
from varlen.datasets.image_files import decode, encode

from tests.browser.test_bench import FRESH, settled


@pytest.fixture
def field(varlen_address: str, page: Page, survey_folder: Path, state: Path) -> str:
    """The survey's pictures, much darker, as a dataset without labels."""
    name = "Dark field"
    there = page.request.get(f"{varlen_address}/api/datasets").json()
    if any(each["name"] == name for each in there):
        return name
    folder = state / "demo" / "dark-field"
    folder.mkdir()
    for path in sorted(survey_folder.rglob("*.jpg")):
        dark = 255 * (decode(path.read_bytes(), path.name) / 255.0) ** 2.4
        (folder / path.name).write_bytes(encode(dark.astype(np.uint8), "jpeg", 93))
    asked = page.request.post(f"{varlen_address}/api/imports", data={"name": name, "folder": str(folder)}).json()
    assert page.request.post(f"{varlen_address}/api/imports/{asked['id']}/recognise", data={}).ok
    assert page.request.post(f"{varlen_address}/api/imports/{asked['id']}/start", data={}).ok
    for _ in range(600):
        if any(each["name"] == name for each in page.request.get(f"{varlen_address}/api/datasets").json()):
            return name
        page.wait_for_timeout(200)
    raise AssertionError("the field was not imported")


def test_from_a_match_to_the_rail_and_from_a_probe_to_its_verdict(page: Page, varlen_address: str, lamp_drift: dict[str, Any], field: str) -> None:
    made = page.request.post(f"{varlen_address}/api/pipelines", data={"document": {**lamp_drift, "name": "For the field"}}).json()
    page.add_init_script(f"localStorage.setItem('varlen-open-pipeline', '{made['pipeline']}')")
    page.goto(varlen_address)
    page.wait_for_function(FRESH)
    settled(page)
    page.keyboard.press("m")
    dialog = page.get_by_role("dialog", name="Match the field")
    dialog.get_by_label("Field", exact=True).select_option(label=field)
    dialog.get_by_role("button", name="Compare").click()
    headline = dialog.get_by_test_id("headline")
    expect(headline).to_contain_text("→")
    before, after = (float(each) for each in re.findall(r"\d\.\d\d", headline.inner_text())[:2])
    assert after < before
    brightness = dialog.locator("[data-condition=brightness]")
    expect(brightness).to_contain_text("→")
    expect(brightness.get_by_role("img", name=re.compile("^brightness: training"))).to_be_visible()
    dialog.get_by_role("button", name=re.compile("^Take gamma|^Take color jitter")).first.click()
    expect(dialog.get_by_role("button", name=re.compile("^Take (gamma|color jitter)")).first).to_be_disabled()
    page.keyboard.press("Escape")
    expect(page.locator("[data-stop^=match-]").first).to_be_visible()
    settled(page)
    page.keyboard.press("Control+z")
    expect(page.locator("[data-stop^=match-]")).to_have_count(0)
    page.keyboard.press("p")
    dialog = page.get_by_role("dialog", name="Does it help?")
    for wish, value in (("Seeds", "1"), ("Minutes", "0.2")):
        dialog.get_by_role("textbox", name=wish).fill(value)
        page.keyboard.press("Enter")
    dialog.get_by_role("button", name="Probe", exact=True).click()
    expect(dialog.locator("[data-verdict='For the field']")).to_contain_text(re.compile("helps|hurts|no difference shown"), timeout=400_000)
    expect(dialog.get_by_role("table", name="Robustness")).to_contain_text("darker")
    page.keyboard.press("Escape")
    page.goto(f"{varlen_address}/trials")
    page.get_by_role("link", name="For the field").first.click()
    expect(page.locator("[data-verdict=none]")).to_be_visible()

"""What people mean, on the screen: own class folders to an edition in a few clicks, one picture large, loss rules, notes."""

from __future__ import annotations

import re
import tarfile
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, expect
from varlen.datasets.image_files import decode
from varlen.demo.variants import write_variant

from tests.browser.test_bench import FRESH, settled


def test_own_class_folders_to_an_edition_with_every_class_seen(page: Page, varlen_address: str, survey_folder: Path, tmp_path: Path) -> None:
    """A tar, five clicks: choose, import, start a pipeline, make an edition, make it. Then it is found by a note, and its classes are counted."""
    write_variant(survey_folder, tmp_path / "species", "class-folders")
    with tarfile.open(tmp_path / "species.tar.gz", "w:gz") as archive:
        archive.add(tmp_path / "species", "species")
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(tmp_path / "species.tar.gz")
    page.get_by_role("button", name="Import", exact=True).click()
    page.get_by_role("button", name="Start a pipeline for this").click()
    page.wait_for_function(FRESH)
    settled(page)
    expect(page.get_by_role("button", name="species", exact=True)).to_be_visible()  # the pipeline has the dataset's name
    tiles = page.locator("[data-testid=sheet] figure[data-fresh=true]")
    shown = {tile.get_attribute("data-classes") for tile in tiles.all()}
    assert shown <= {"ash veil", "copper hook", "dusk marble", "lantern mote", "reed sailer"}
    page.get_by_role("button", name="Make an edition").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_role("button", name=re.compile("^Make \\d+ images")).click()
    expect(dialog.get_by_test_id("edition-done")).to_be_visible()

    page.goto(f"{varlen_address}/editions")
    edition = page.get_by_role("article").first
    expect(edition.locator("figure[data-classes]")).to_have_count(4)
    edition.get_by_text("add a note").click()
    page.keyboard.type("first try, by species")
    page.keyboard.press("Enter")
    page.get_by_label("Find an edition").fill("SPECIES first")
    expect(page.get_by_role("article")).to_have_count(1)
    page.get_by_label("Find an edition").fill("something else")
    expect(page.get_by_text("No edition has these words")).to_be_visible()
    page.get_by_label("Find an edition").fill("first try")
    page.get_by_role("article").get_by_role("link").first.click()
    narrow = page.get_by_role("button", name=re.compile("^ash veil"))
    count = int(re.sub(r"\D", "", narrow.inner_text()))
    assert count > 0
    narrow.click()
    expect(page.get_by_role("status").filter(has_text=f"{count} image")).to_be_visible()
    expect(page.locator("figure[data-classes='ash veil']")).to_have_count(min(count, page.locator("figure").count()))
    assert {figure.get_attribute("data-classes") for figure in page.locator("figure").all()} == {"ash veil"}


def test_one_picture_large_with_its_variants_and_the_next(page: Page, varlen_address: str) -> None:
    page.goto(f"{varlen_address}/datasets/1")
    page.get_by_role("button", name="training").click()
    page.locator("button[aria-label^='Open ']").first.click()
    first = page.get_by_role("dialog").get_attribute("aria-label")
    page.keyboard.press("b")
    originals = page.locator("[data-testid=sheet] figure[aria-label^=Original]")
    expect(originals).to_have_count(1)
    expect(originals).to_have_attribute("aria-label", f"Original {first}")
    expect(page.locator("[data-testid=sheet] figure[data-fresh=true][data-tile]")).to_have_count(11)
    tops = {round(tile.bounding_box()["y"]) for tile in page.locator("[data-testid=sheet] figure").all()}  # type: ignore[index]
    assert len(tops) == 3  # wrapped over the whole width
    page.keyboard.press("ArrowRight")
    expect(originals).not_to_have_attribute("aria-label", f"Original {first}")
    expect(page.get_by_text(re.compile("image 2 of"))).to_be_visible()
    page.get_by_role("button", name="Several images").click()
    expect(originals).to_have_count(6)


def test_why_boxes_went_and_a_rule_that_keeps_them(page: Page, varlen_address: str) -> None:
    """The ledger tells the loss; each choice of the rules says what it would lose; the one taken is what is lost then."""
    page.goto(varlen_address)
    page.wait_for_function(FRESH)
    settled(page)
    lost = page.get_by_role("region", name="Ledger").get_by_text(re.compile("% lost"))
    before = lost.inner_text()
    page.get_by_role("button", name="Rules").click()
    stricter = page.get_by_role("group", name="Share that must be left").get_by_role("button", name=re.compile("^75 %"))
    expect(stricter).to_contain_text("lost")
    would = re.search(r"([\d.]+) % lost", stricter.inner_text())
    assert would is not None
    assert would[0] != before
    stricter.click()
    expect(stricter).to_have_attribute("aria-pressed", "true")
    expect(lost).to_have_text(would[0])
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Undo").click()
    expect(lost).to_have_text(before)


def test_a_name_is_asked_and_changed_on_the_bench(page: Page, varlen_address: str) -> None:
    page.goto(varlen_address)
    page.wait_for_function(FRESH)
    page.get_by_role("button", name="New", exact=True).click()
    page.get_by_label("Name of the pipeline").fill("Dusk, softer")
    page.get_by_role("dialog").get_by_role("button", name="empty").click()
    page.get_by_role("button", name="Dusk, softer").click()
    page.get_by_label("Name of the pipeline").fill("Dusk, softer still")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="Dusk, softer still")).to_be_visible()
    page.keyboard.press("Control+s")
    expect(page.get_by_test_id("revision")).to_contain_text("revision 2")
    page.goto(f"{varlen_address}/pipelines")
    page.get_by_label("Find a pipeline").fill("softer still")
    expect(page.get_by_role("article")).to_have_count(1)
    page.get_by_role("article").get_by_role("button", name="Delete").click()
    expect(page.get_by_role("article")).to_have_count(0)


def test_a_pixel_is_read_where_the_pointer_is(page: Page, varlen_address: str) -> None:
    """In the image view, the source's values; in the trace, the variant's and those of the source pixel they come from; the matrix on demand."""
    page.goto(f"{varlen_address}/datasets/1")
    page.locator("button[aria-label^='Open ']").first.click()
    figure = page.get_by_role("dialog").locator("figure[data-fresh=true]")
    figure.hover(position={"x": 40, "y": 30})
    expect(page.get_by_label("Pixel", exact=True)).to_have_text(re.compile(r"^\d+, \d+: \d+ \d+ \d+$"))
    page.goto(varlen_address)
    page.wait_for_function(FRESH)
    page.get_by_role("button", name=re.compile("^Look at variant 1")).first.click()
    box = page.locator("[data-zoomed]").bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 300, box["y"] + 200)
    expect(page.get_by_label("Pixel", exact=True)).to_have_text(
        re.compile(r"^\d+, \d+: \d+ \d+ \d+( from \S+ [\d.]+, [\d.]+: \d+ \d+ \d+|, blank area)$")
    )
    page.get_by_text("matrix").click()
    expect(page.locator("details pre").first).to_contain_text("0.00000")


def test_brightness_alone_on_one_own_picture(page: Page, varlen_address: str, survey_folder: Path) -> None:
    """One picture in; only brightness; eleven variants of it, large, each nothing but lighter or darker."""
    own = next(iter(sorted((survey_folder / "images" / "train").iterdir())))
    page.goto(f"{varlen_address}/datasets")
    page.get_by_label("Dataset files").set_input_files(own)
    page.get_by_role("button", name="Import", exact=True).click()
    expect(page.get_by_role("button", name="Start a pipeline for this")).to_be_visible()
    page.get_by_role("button", name="Open on the bench").first.click()
    page.wait_for_function(FRESH)
    page.get_by_role("button", name="New", exact=True).click()
    page.get_by_label("Name of the pipeline").fill("Lighter, darker")
    page.get_by_role("dialog").get_by_role("button", name="empty").click()
    expect(page.locator("[data-stop]")).to_have_count(0)
    page.keyboard.press("a")
    page.get_by_label("Find a step").fill("brightness")
    page.keyboard.press("Enter")
    expect(page.locator("[data-stop]")).to_have_count(1)
    expect(page.get_by_role("region", name=re.compile("^Step brightness"))).to_be_visible()
    settled(page)
    tiles = page.locator("[data-testid=sheet] figure[data-fresh=true][data-tile]")
    expect(tiles).to_have_count(11)
    boxes = [tile.bounding_box() for tile in page.locator("[data-testid=sheet] figure").all()]
    assert len(boxes) == 12
    assert min(box["width"] for box in boxes if box) > 200
    drawn = [decode(tile.screenshot(), "tile").reshape(-1, 3).mean(axis=0) for tile in page.locator("[data-testid=sheet] figure").all()]
    assert len({round(float(each.mean()), 1) for each in drawn}) > 5  # of eleven, some are left as they are
    for each in drawn:  # one factor for all three
        assert np.ptp(each / drawn[0]) < 0.06

"""The handbook as a site: it builds without a fault, its links lead somewhere, its search finds what newcomers ask."""

from __future__ import annotations

import json
import re
import sys
from html.parser import HTMLParser
from pathlib import Path
from urllib.parse import unquote, urlsplit

import pytest

from tests.docs.blocks import PROJECT

sys.path.insert(0, str(PROJECT / "scripts"))


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    import docs

    folder = tmp_path_factory.mktemp("handbook") / "site"
    docs.build(folder)
    return folder


class Links(HTMLParser):
    """Addresses and anchors of a page."""

    def __init__(self) -> None:
        super().__init__()
        self.targets: set[str] = set()
        self.anchors: set[str] = set()

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        found = {name: value or "" for name, value in attrs}
        self.targets |= {found[name] for name in ("href", "src") if name in found}
        self.anchors |= {found[name] for name in ("id", "name") if name in found}


def test_every_link_leads_somewhere_and_nothing_is_fetched_from_elsewhere(site: Path) -> None:
    pages = {}
    for path in site.rglob("*.html"):
        pages[path] = Links()
        pages[path].feed(path.read_text("utf-8"))
    broken = []
    for path, page in pages.items():
        for target in page.targets:
            address = urlsplit(target)
            if address.scheme or address.netloc or target.startswith("#") or not address.path:
                continue
            goal = (path.parent / unquote(address.path)).resolve()
            if not goal.exists() or (address.fragment and goal in pages and unquote(address.fragment) not in pages[goal].anchors):
                broken.append(f"{path.relative_to(site)}: {target}")
        fetched = re.findall(r'<(?:script|link|img)[^>]+(?:src|href)="(https?:[^"]+)"', path.read_text("utf-8"))
        assert not fetched, path
    assert not broken


def test_every_public_name_is_in_the_reference_with_what_it_says_of_itself(site: Path) -> None:
    import varlen

    text = (site / "api.html").read_text("utf-8")
    for name in varlen.__all__:
        if name != "__version__":
            assert name in text, name
    assert "x_min, y_min, x_max, y_max in px" in re.sub(r"<[^>]+>", "", text)


@pytest.mark.parametrize(("words", "page"), [("disappear", "questions/why-did-my-box-disappear"), ("convention", "questions/which-box-convention"),
                                            ("set_epoch", "training"), ("letterbox", "steps/resize")])  # fmt: skip
def test_the_index_that_search_uses_knows_what_newcomers_ask(site: Path, words: str, page: str) -> None:
    index = json.loads((site / "searchindex.js").read_text("utf-8").removeprefix("Search.setIndex(").removesuffix(")"))
    places = set()
    for terms in (index["terms"], index["titleterms"]):
        for term, found in terms.items():
            if words.startswith(term) or term.startswith(words):
                places |= set([found] if isinstance(found, int) else found)
    assert page in [index["docnames"][place] for place in places]

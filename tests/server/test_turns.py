"""Whose request is next."""

from __future__ import annotations

from collections import Counter

from hypothesis import given
from hypothesis import strategies as st
from varlen_server.patient_worker import GATHERED_BODY, LARGEST_HEAD, Request
from varlen_server.turns import AT_LEAST, Turns


def test_one_request_waits_for_no_more_than_one_of_each() -> None:
    """A hundred of one person's, then one of another's: the latter comes after as many as were begun, not after a hundred."""
    turns: Turns[int] = Turns(6)
    for number in range(100):
        turns.add("luna", number)
    begun = [turns.next() for _ in range(4)]
    turns.add("ada", 1000)
    assert turns.next() == ("ada", 1000) or turns.next() == ("ada", 1000)
    assert [found[1] for found in begun if found] == [0, 1, 2, 3]


def test_alone_one_has_every_thread_and_among_others_a_share() -> None:
    turns: Turns[int] = Turns(12)
    for number in range(20):
        turns.add("luna", number)
    assert sum(turns.next() is not None for _ in range(20)) == 12
    for _ in range(12):
        turns.done("luna")
    for who in ("a", "b", "c"):
        for number in range(20):
            turns.add(who, number)
    taken = Counter(found[0] for found in (turns.next() for _ in range(20)) if found)
    assert taken == dict.fromkeys(("luna", "a", "b", "c"), AT_LEAST)


@given(st.lists(st.tuples(st.sampled_from("abcd"), st.booleans()), max_size=80), st.integers(1, 9))
def test_everything_is_done_once_in_its_owner_s_order(wanted: list[tuple[str, bool]], threads: int) -> None:
    turns: Turns[int] = Turns(threads)
    begun: list[tuple[str, int]] = []
    under_way: list[str] = []

    def begin() -> None:
        while (found := turns.next()) is not None:
            begun.append(found)
            under_way.append(found[0])
            assert len(under_way) <= threads

    for number, (who, ends) in enumerate(wanted):
        turns.add(who, number)
        begin()
        if ends and under_way:
            turns.done(under_way.pop(0))
            begin()
    while under_way:
        turns.done(under_way.pop(0))
        begin()
    assert sorted(number for _, number in begun) == list(range(len(wanted)))
    for name in "abcd":
        own = [number for who, number in begun if who == name]
        assert own == sorted(own)


@given(st.binary(max_size=2000), st.lists(st.integers(1, 300), max_size=30))
def test_a_request_is_whole_however_it_comes_in_pieces(body: bytes, cuts: list[int]) -> None:
    data = b"POST /api/sheet HTTP/1.1\r\nHost: x\r\nContent-Length: %d\r\nCookie: a=b; varlen-session=abcdefgh1234\r\n\r\n" % len(body) + body
    request, at = Request(), 0
    for cut in [*cuts, len(data)]:
        assert not request.complete or at == len(data)
        if at < len(data):
            assert request.add(data[at : at + cut]) == ""
            at = min(at + cut, len(data))
    assert request.complete
    assert bytes(request.data) == data
    assert request.who(("10.0.0.1", 5)) == "abcdefgh1234"


def test_what_is_refused_or_handed_on_early() -> None:
    assert Request().add(b"GET / HTTP/1.1\r\nX: " + b"a" * LARGEST_HEAD).startswith("431")
    assert Request().add(b"POST / HTTP/1.1\r\nTransfer-Encoding: chunked\r\n\r\n").startswith("411")
    upload = Request()
    upload.add(b"POST / HTTP/1.1\r\nContent-Length: 9000000\r\nExpect: 100-continue\r\n\r\n")
    assert upload.awaits_a_word()
    assert not upload.awaits_a_word()
    assert upload.large
    assert not upload.complete
    upload.add(b"a" * GATHERED_BODY)
    assert upload.complete
    assert upload.data.startswith(b"POST / HTTP/1.1\r\nContent-Length: 9000000\r\n\r\naaa")

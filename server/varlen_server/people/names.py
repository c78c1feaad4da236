"""Names and passwords of people: which names look alike, which passwords are guessed soon."""

from __future__ import annotations

import unicodedata
from functools import lru_cache
from string import ascii_lowercase
from typing import Any

from confusable_homoglyphs import confusables
from django.contrib.auth.models import User
from django.core.exceptions import ValidationError
from zxcvbn import zxcvbn

#: Of 0 to 4, how hard a password must be to guess: 3 is some 10⁸ guesses.
HARD_ENOUGH = 3
#: What the estimate takes at most, letters.
_ESTIMATED = 72
#: A shorter name may well be part of a word.
_SHORT = 3


def look_of(name: str) -> str:
    """What a name looks like: names with one look are one name. Case, width and letters of other scripts with the shape of Latin ones don't count.

    Unicode's NFKC and case folding, then its table of confusable characters (UTS 39).
    """
    return "".join(map(_latin, unicodedata.normalize("NFKC", unicodedata.normalize("NFKC", name).casefold())))


@lru_cache(4096)
def _latin(letter: str) -> str:
    if letter in ascii_lowercase:
        return letter
    found = confusables.is_confusable(letter, greedy=True) or [{"homoglyphs": []}]
    alike = (str(each["c"]).casefold() for each in found[0]["homoglyphs"])
    return next((each for each in alike if each in ascii_lowercase), letter)


def check_look(name: str) -> None:
    """Raises `ValidationError` for a name that mixes letters of several scripts which look alike."""
    if confusables.is_dangerous(name):
        raise ValidationError("This name mixes letters of several scripts that look alike: use those of one.")


class HardToGuess:
    """Refuses passwords that are guessed soon: common ones, repeated ones, and those that hold the person's name."""

    def validate(self, password: str, user: User | None = None) -> None:
        """Raises `ValidationError` with the reason."""
        name = user.get_username() if user is not None else ""
        if len(name) >= _SHORT and look_of(name) in look_of(password):
            raise ValidationError("The name is part of the password.")
        found: dict[str, Any] = zxcvbn(password[:_ESTIMATED], user_inputs=[name] if name else [])
        if found["score"] < HARD_ENOUGH:
            raise ValidationError(found["feedback"]["warning"] or "This password is easy to guess: add another word or two.")

    def get_help_text(self) -> str:
        """For people."""
        return "Common passwords, repeated ones and those that hold the name are refused."

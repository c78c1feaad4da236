"""Signed editions: the public key is enough to check one, and only the private key can make one that passes."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest
import varlen as v
from varlen.editions.record import record_digest

from tests.core.cli.test_cli import refused, varlen

SMALL = v.Pipeline([v.Flip(), v.Resize(width_px=48, height_px=36)], seed=2)


def test_signed_by_its_maker_and_by_no_other(survey_folder: Path, tmp_path: Path) -> None:
    """From the terminal: a key, a signed export, a check with the public key; then every way in which it may be wrong."""
    told = varlen("key", "new", "-o", tmp_path / "maker").stdout
    varlen("key", "new", "-o", tmp_path / "other")
    assert "keep it to yourself" in told
    assert (tmp_path / "maker").stat().st_mode & 0o777 == 0o600
    assert "File exists" in refused("key", "new", "-o", tmp_path / "maker")
    (tmp_path / "p.varlen.json").write_text(json.dumps(SMALL.to_json()))
    out = tmp_path / "edition"
    varlen("export", survey_folder, tmp_path / "p.varlen.json", "-o", out, "--variants", "1", "--sign", tmp_path / "maker", "--accept-loss", "all")
    assert f"signed by {tmp_path / 'maker.pub'}" in varlen("verify", out, "--signed-by", tmp_path / "maker.pub").stdout
    assert varlen("verify", out).stdout  # one that is signed is good without a key, too
    assert "signature.json: is not of this key" in refused("verify", out, "--signed-by", tmp_path / "other.pub")

    # The record rewritten consistently: its own digest fits again, the signature does not.
    forged = tmp_path / "forged"
    shutil.copytree(out, forged)
    record = json.loads((forged / "edition.json").read_text())
    record["dataset"] = "another"
    record["record_digest"] = record_digest(record)
    (forged / "edition.json").write_text(json.dumps(record))
    assert {each["problem"] for each in v.verify(forged, signed_by=tmp_path / "maker.pub").problems} >= {"is of another record"}
    signature = json.loads((forged / "signature.json").read_text())
    (forged / "signature.json").write_text(json.dumps({**signature, "record_digest": record["record_digest"]}))
    assert {each["problem"] for each in v.verify(forged, signed_by=tmp_path / "maker.pub").problems} >= {"is not that of this record"}
    for broken, says in ((b"{", "can't be read"), (None, "there is none")):
        if broken is None:
            (out / "signature.json").unlink()
        else:
            (out / "signature.json").write_bytes(broken)
        assert any(says in each["problem"] for each in v.verify(out, signed_by=tmp_path / "maker.pub").problems)


def test_a_key_that_can_t_be_used_stops_before_anything_is_written(survey_folder: Path, tmp_path: Path) -> None:
    (tmp_path / "no key").write_text("moth")
    for key, says in (("no key", "not a private key"), ("nowhere", "No such file")):
        with pytest.raises(v.EditionError, match=says):
            v.export(survey_folder, SMALL, tmp_path / "out", variants=1, sign=tmp_path / key, accept_loss=["all"])
    assert not (tmp_path / "out").exists()
    varlen("key", "new", "-o", tmp_path / "maker")
    edition = v.export(survey_folder, SMALL, tmp_path / "out", variants=1, sign=tmp_path / "maker", accept_loss=["all"])
    assert v.verify(edition, signed_by=tmp_path / "maker.pub")
    with pytest.raises(v.EditionError, match="not a public key"):
        v.verify(edition, signed_by=tmp_path / "maker")

"""Signed editions: the maker's public key is enough to check one; no digest has to be handed over.

A signature is Ed25519 (RFC 8032) over the record's digest as text, and lies in `signature.json` beside the record, outside of it. The record's
digest covers the record, and that covers every file of the edition.
"""

from __future__ import annotations

import base64
import os
from pathlib import Path
from typing import TYPE_CHECKING, TypedDict

import orjson

from varlen.atomic_files import write_whole
from varlen.editions.record import SIGNATURE, read_record
from varlen.errors import EditionError
from varlen.stores import Store, url_of

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey


class Signature(TypedDict):
    """What `signature.json` holds; key and signature in base64."""

    varlen_signature: int
    record_digest: str
    public_key: str
    signature: str


def new_key(path: Path) -> Path:
    """Make a private key at `path`, readable by its owner alone, and its public key beside it; returns the latter's path.

    Raises `EditionError` where either is there already, or can't be written.
    """
    from cryptography.hazmat.primitives import serialization as form
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    public = path.with_name(f"{path.name}.pub")
    key = Ed25519PrivateKey.generate()
    try:
        opened = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(opened, "wb") as file:
            file.write(key.private_bytes(form.Encoding.PEM, form.PrivateFormat.PKCS8, form.NoEncryption()))
        with public.open("xb") as file:
            file.write(key.public_key().public_bytes(form.Encoding.PEM, form.PublicFormat.SubjectPublicKeyInfo))
    except OSError as error:
        raise EditionError(f"{error.filename or path}: {error.strerror or error}") from None
    return public


def private_key(path: Path) -> Ed25519PrivateKey:
    """A key to sign with. Raises `EditionError` for a file that holds none."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    try:
        found = load_pem_private_key(path.read_bytes(), None)
    except OSError as error:
        raise EditionError(f"{path}: {error.strerror or error}") from None
    except (ValueError, TypeError) as error:
        raise EditionError(f"{path}: not a private key that can be read ({error}); make one with varlen key new") from None
    if not isinstance(found, Ed25519PrivateKey):
        raise EditionError(f"{path}: not an Ed25519 key; make one with varlen key new")
    return found


def public_key(path: Path) -> Ed25519PublicKey:
    """A key to check with, of a .pub file. Raises `EditionError` for a file that holds none."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
    from cryptography.hazmat.primitives.serialization import load_pem_public_key

    try:
        found = load_pem_public_key(path.read_bytes())
    except OSError as error:
        raise EditionError(f"{path}: {error.strerror or error}") from None
    except ValueError as error:
        raise EditionError(f"{path}: not a public key that can be read ({error})") from None
    if not isinstance(found, Ed25519PublicKey):
        raise EditionError(f"{path}: not an Ed25519 key")
    return found


def sign(edition: Path, key: Ed25519PrivateKey) -> Signature:
    """Sign an edition; an earlier signature is replaced. Raises `EditionError` for an edition without a record digest."""
    digest = read_record(edition).get("record_digest", "")
    if not digest:
        raise EditionError(f"{edition}: an edition of its time has no record digest, and nothing to sign")
    made = Signature(varlen_signature=1, record_digest=digest, public_key=_text(key.public_key()),
                     signature=base64.b64encode(key.sign(digest.encode())).decode())  # fmt: skip
    data = orjson.dumps(made, option=orjson.OPT_INDENT_2) + b"\n"
    if url := url_of(edition):
        Store(url).write(SIGNATURE, data)
    else:
        write_whole(edition / SIGNATURE, data)
    return made


def _read(edition: Path) -> bytes | None:
    """The signature's file, None where there is none."""
    if url := url_of(edition):
        store = Store(url)
        return store.read(SIGNATURE) if store.has(SIGNATURE) else None
    path = edition / SIGNATURE
    return path.read_bytes() if path.exists() else None


def signer_of(edition: Path) -> str:
    """The public key that an edition says it is signed with, in base64; "" where it is not signed by it."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    try:
        said = orjson.loads(_read(edition) or b"{}").get("public_key", "")
        key = Ed25519PublicKey.from_public_bytes(base64.b64decode(said, validate=True))
    except (OSError, ValueError, TypeError, AttributeError):
        return ""
    return "" if signature_problem(edition, key) else str(said)


def signature_problem(edition: Path, key: Ed25519PublicKey) -> str:
    """Why an edition is not signed by the owner of `key`; empty where it is. The record itself is checked by `verify`."""
    from cryptography.exceptions import InvalidSignature

    try:
        data = _read(edition)
        if data is None:
            return "there is none"
        said = orjson.loads(data)
        digest, signature = said["record_digest"], base64.b64decode(said["signature"], validate=True)
    except (OSError, ValueError, KeyError, TypeError) as error:
        return f"can't be read ({str(error)[:80]})"
    if digest != read_record(edition).get("record_digest"):
        return "is of another record"
    try:
        key.verify(signature, digest.encode())
    except InvalidSignature:
        return "is not of this key" if said.get("public_key") != _text(key) else "is not that of this record"
    return ""


def _text(key: Ed25519PublicKey) -> str:
    return base64.b64encode(key.public_bytes_raw()).decode()

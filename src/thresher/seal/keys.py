"""The shop's key: made at first use, readable for this user alone; and the public keys that a shop knows.

The private key is a PEM file (PKCS #8), the public ones are 32 bytes in base64 (RFC 8032).
"""

import base64
import binascii
import contextlib
import hashlib
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey

from thresher.journal.lock import locked
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.private_folder import made_folder
from thresher.model.regular_file import is_there, read_regular
from thresher.model.whole_file import write_whole
from thresher.shop.store import change_file, read_file

FORMAT = "thresher-seal-keys/1"
_KEY_NAME, _KNOWN_NAME = "seal-key.pem", "seal-keys.json"


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownKey:
    """A public key (base64), whose it is, and since when it is known (Unix time). `own` for one of this shop's."""

    public: str
    name: str
    since: float
    own: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownKeys:
    """The public keys that a shop knows: its own ones, also those it no longer signs with, and other shops'."""

    format: str = FORMAT
    keys: tuple[KnownKey, ...] = ()

    def of(self, public: str) -> KnownKey | None:
        """Return a key that is known."""
        return next((each for each in self.keys if each.public == public), None)


@dataclass(frozen=True, slots=True)
class Keyring:
    """The public keys that a seal is checked with: all that are known, and those that are signed with now."""

    known: KnownKeys
    present: frozenset[str]


@dataclass(frozen=True, slots=True)
class ShopKey:
    """The key that a shop signs with; `public` in base64."""

    private: Ed25519PrivateKey
    public: str

    def sign(self, data: bytes) -> str:
        """Return the signature of data, in base64."""
        return base64.b64encode(self.private.sign(data)).decode()


def fingerprint(public: str) -> str:
    """Return a public key in so few signs that two people can compare them: 8 groups of 4 hex digits of its SHA-256."""
    digest = hashlib.sha256(public.encode()).hexdigest()[:32]
    return " ".join(digest[place : place + 4] for place in range(0, 32, 4))


def is_signed(data: bytes, signature: str, public: str) -> bool:
    """Whether a signature is that of the key over the data; a signature or key that is none is not."""
    try:
        key = Ed25519PublicKey.from_public_bytes(base64.b64decode(public, validate=True))
        key.verify(base64.b64decode(signature, validate=True), data)
    except (InvalidSignature, ValueError, binascii.Error):
        return False
    return True


def key_path(shop: Path) -> Path:
    """Return where the shop's private key is."""
    return shop / _KEY_NAME


def known_keys(shop: Path) -> KnownKeys:
    """Return the public keys that a shop knows. Raises InputError."""
    return read_file(shop / _KNOWN_NAME, KnownKeys, FORMAT) or KnownKeys()


def add_known_key(shop: Path, public: str, name: str, own: bool = False) -> KnownKey:
    """Add a public key to those that the shop knows. Raises InputError for what is no key, EnvironmentFault."""
    public = public.strip()
    try:
        Ed25519PublicKey.from_public_bytes(base64.b64decode(public, validate=True))
    except (ValueError, binascii.Error) as error:
        raise InputError(
            "public key", [InputFault("key", "expected 32 bytes in base64, as a report prints it")]
        ) from error
    new = KnownKey(public=public, name=name, since=datetime.now(UTC).timestamp(), own=own)

    def change(file: KnownKeys) -> KnownKeys:
        others = tuple(each for each in file.keys if each.public != public)
        before = file.of(public)
        kept = new if before is None else replace(before, name=name or before.name)
        return KnownKeys(keys=(*others, kept))

    change_file(shop / _KNOWN_NAME, FORMAT, KnownKeys(), change)
    return new


def keyring_of(*shops: Path) -> Keyring:
    """Return the keys of shop folders. Raises InputError.

    A private key that cannot be read is left out: a seal is checked without it, and the known keys say whose it is.
    """
    known = tuple(key for shop in shops for key in known_keys(shop).keys)
    present = set()
    for shop in shops:
        if is_there(key_path(shop)):
            with contextlib.suppress(InputError, EnvironmentFault):
                present.add(_public_of(_read_key(key_path(shop))))
    return Keyring(KnownKeys(keys=known), frozenset(present))


def _public_of(private: Ed25519PrivateKey) -> str:
    raw = private.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
    return base64.b64encode(raw).decode()


def shop_key(shop: Path) -> ShopKey:
    """Return the shop's key, a new one when there is none. Raises InputError for a damaged one, EnvironmentFault.

    One that cannot be read is never written over: what it has signed could be somebody's proof.
    """
    path = key_path(shop)
    made_folder(shop)
    with locked(shop, "the shop folder"):
        new = not is_there(path)
        if new:
            made = Ed25519PrivateKey.generate().private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
            write_whole(path, made, 0o600)
        private = _read_key(path)
    public = _public_of(private)
    if new or known_keys(shop).of(public) is None:
        add_known_key(shop, public, "this shop", own=True)
    return ShopKey(private, public)


def _read_key(path: Path) -> Ed25519PrivateKey:
    remedy = "restore it from a backup; or rename it, and a new key is made. Earlier seals can still be checked"
    try:
        found = serialization.load_pem_private_key(read_regular(path), password=None)
    except OSError as error:
        raise EnvironmentFault(f"reading the shop's key {path}", error.strerror or str(error), remedy) from error
    except (ValueError, TypeError, UnsupportedAlgorithm) as error:
        raise InputError(str(path), [InputFault("key", f"it is no private key in PEM; {remedy}")]) from error
    if not isinstance(found, Ed25519PrivateKey):
        raise InputError(str(path), [InputFault("key", f"it is no Ed25519 key; {remedy}")])
    return found

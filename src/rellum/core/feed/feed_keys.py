"""The keys of a feed: two private ones, encrypted, which never leave the curator; and what players trust.

``curator.pem`` signs what the feed has, ``timestamp.pem`` only that this is still the newest. Both are
Ed25519 keys (RFC 8032) as encrypted PKCS #8 (RFC 5958) in PEM. A player trusts the hash of the first root
metadata, in which their public parts stand: the *fingerprint*, 100 bits that can be read out on the
telephone.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from typing import TYPE_CHECKING

from rellum.core.errors import UserError
from rellum.core.values.sayable import sayable

if TYPE_CHECKING:
    from securesystemslib.signer import CryptoSigner

CURATOR, TIMESTAMP = "curator.pem", "timestamp.pem"
Password = Callable[[str], str]
"""Asks for the password of a key file; ``what`` says which."""


_PACKAGES = (
    "tuf",
    "securesystemslib",
    "cryptography",
    "fastcdc",
    "license_expression",
    "cyclonedx",
)


class KeyFault(UserError):
    """A key of a feed is not there, cannot be read, or is another one."""

    code = "key-fault"


class NoFeedPackages(UserError):
    """What feeds are signed and checked with is not installed."""

    code = "no-feed-packages"


def require_packages() -> None:
    """Raise NoFeedPackages where the packages for feeds are not installed."""
    from importlib.util import find_spec

    missing = [name for name in _PACKAGES if not find_spec(name)]
    if missing:
        raise NoFeedPackages(
            f"feeds need packages that are not installed: {', '.join(missing)}",
            hint="Install them: pip install 'rellum[feed]'",
        )


def have_keys(folder: str) -> bool:
    """Whether a folder has the keys of a feed."""
    return any(os.path.exists(os.path.join(folder, name)) for name in (CURATOR, TIMESTAMP))


def make_keys(folder: str, password: str) -> None:
    """Make both keys in a folder, readable by their owner alone. Raises KeyFault, OSError."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import (
        BestAvailableEncryption,
        Encoding,
        PrivateFormat,
    )

    if len(password) < 8:
        raise KeyFault(
            "the password of the keys has fewer than 8 signs", hint="Choose a longer one."
        )
    os.makedirs(folder, mode=0o700, exist_ok=True)
    files = [os.path.join(folder, name) for name in (CURATOR, TIMESTAMP)]
    for file in files:
        if os.path.exists(file):
            raise KeyFault(
                f"{file} is there already",
                hint="Players trust this key: keep it. Another folder takes other keys.",
            )
    for file in files:
        content = Ed25519PrivateKey.generate().private_bytes(
            Encoding.PEM, PrivateFormat.PKCS8, BestAvailableEncryption(password.encode("utf-8"))
        )
        descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with open(descriptor, "wb") as stream:
            stream.write(content)


def load_key(folder: str, name: str, password: Password) -> CryptoSigner:
    """Return what signs with a key. Raises KeyFault."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import load_pem_private_key
    from securesystemslib.signer import CryptoSigner

    file = os.path.join(folder, name)
    try:
        with open(file, "rb") as stream:
            content = stream.read(1 << 16)
    except OSError as error:
        raise KeyFault(
            f"the key {file} cannot be read: {error.strerror}",
            hint="'rellum publish --keys FOLDER' makes keys; name their folder with --key-folder.",
        ) from error
    try:
        key = load_pem_private_key(content, password(file).encode("utf-8"))
    except (ValueError, TypeError) as error:
        raise KeyFault(
            f"{file}: the password is wrong, or it is no key", hint="Try again."
        ) from error
    if not isinstance(key, Ed25519PrivateKey):
        raise KeyFault(f"{file} is a key of another kind", hint="It must be an Ed25519 key.")
    return CryptoSigner(key)


def sayable_root(root: bytes) -> str:
    """Return the fingerprint of the first root metadata: five groups of four signs."""
    return sayable(hashlib.sha256(root).hexdigest())


def is_same(said: str, found: str) -> bool:
    """Whether two fingerprints are the same, however somebody wrote one down."""
    return _plain(said) == _plain(found)


def _plain(said: str) -> str:
    signs = "".join(sign for sign in said.lower() if sign.isalnum())
    return signs.replace("o", "0").replace("i", "1").replace("l", "1").replace("u", "v")

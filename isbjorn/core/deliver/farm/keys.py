"""Keys: which machines may join a farm."""

from __future__ import annotations

import os
from pathlib import Path
from urllib.parse import urlsplit

from distributed import Security

from isbjorn.core.errors import IsbjornError

_LOOPBACK = ("127.0.0.1", "localhost", "::1")


def security(address: str, keys: str | Path | None) -> Security | None:
    """How workers and studio know each other: by one certificate that all share. Raises IsbjornError for an address beyond this
    machine without one."""
    if keys:
        path = str(keys)
        if not Path(path).is_file():
            raise IsbjornError(
                "this key file does not exist.",
                path,
                "Create one with `isbjorn farm-key FILE`, and copy it to all machines.",
            )
        names = {f"tls_{role}_{what}": path for role in ("client", "worker", "scheduler") for what in ("cert", "key")}
        return Security(tls_ca_file=path, require_encryption=True, **names)
    host = urlsplit(address if "//" in address else f"//{address}").hostname
    if host not in _LOOPBACK:
        raise IsbjornError(
            f"{host} is another machine, and no key is given.",
            "--key",
            "Anyone who can reach an open farm can run code on it. Create a key with `isbjorn farm-key FILE`.",
        )
    return None


def make_key(path: Path) -> None:
    """Write a certificate with its key, for all machines of a farm. Raises IsbjornError when it is there already."""
    import datetime

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec

    if path.exists():
        raise IsbjornError("it already exists.", str(path), "Use another name, or use this file.")
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "Isbjorn farm")])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(x509.random_serial_number()).not_valid_before(now - datetime.timedelta(days=1))
        .not_valid_after(now + datetime.timedelta(days=3650))
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    plain = serialization.NoEncryption()
    text = made.public_bytes(serialization.Encoding.PEM) + key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, plain
    )
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(text)

"""Certificates of two sides by one authority, made for a test."""

from __future__ import annotations

import datetime
import ssl
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID


def certificates(folder: Path) -> ssl.SSLContext:
    """Make the certificates of a server and of a client, by one authority; return what the client takes."""

    keys = {name: ec.generate_private_key(ec.SECP256R1()) for name in ("authority", "server", "client")}
    now = datetime.datetime.now(datetime.UTC)
    for name, key in keys.items():
        own, issuer = (x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, one)]) for one in (name, "authority"))
        built = x509.CertificateBuilder().subject_name(own).issuer_name(issuer).public_key(key.public_key())
        built = built.serial_number(x509.random_serial_number()).not_valid_before(now - datetime.timedelta(1))
        built = built.not_valid_after(now + datetime.timedelta(1))
        built = built.add_extension(x509.BasicConstraints(ca=name == "authority", path_length=None), critical=True)
        built = built.add_extension(x509.SubjectAlternativeName([x509.DNSName("localhost")]), critical=False)
        signed = built.sign(keys["authority"], hashes.SHA256())
        (folder / f"{name}.pem").write_bytes(signed.public_bytes(serialization.Encoding.PEM))
        form = serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        (folder / f"{name}.key").write_bytes(key.private_bytes(*form))
    return ssl.create_default_context(cafile=str(folder / "authority.pem"))

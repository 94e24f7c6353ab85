"""Judges a certificate with a verifier of its own: verify.py ROOT LEAF CHAIN PURPOSE [--crl FILE]... [--ocsp FILE]... [--at MOMENT]"""

import argparse
import asyncio
import datetime

from asn1crypto import crl, ocsp, pem, x509
from pyhanko_certvalidator import CertificateValidator, ValidationContext


def blocks(path, kind):
    with open(path, "rb") as file:
        data = file.read()
    if not pem.detect(data):
        return [kind.load(data)]
    return [kind.load(der) for _, _, der in pem.unarmor(data, multiple=True)]


parser = argparse.ArgumentParser()
parser.add_argument("root")
parser.add_argument("leaf")
parser.add_argument("chain")
parser.add_argument("purpose", choices=["client_auth", "server_auth"])
parser.add_argument("--crl", action="append", default=[])
parser.add_argument("--ocsp", action="append", default=[])
parser.add_argument("--at")
said = parser.parse_args()
moment = datetime.datetime.fromisoformat(said.at) if said.at else datetime.datetime.now(datetime.timezone.utc)
context = ValidationContext(
    trust_roots=blocks(said.root, x509.Certificate),
    crls=[one for path in said.crl for one in blocks(path, crl.CertificateList)],
    ocsps=[one for path in said.ocsp for one in blocks(path, ocsp.OCSPResponse)],
    moment=moment,
    allow_fetching=False,
    revocation_mode="hard-fail" if said.crl or said.ocsp else "soft-fail",
)
leaf = blocks(said.leaf, x509.Certificate)[0]
validator = CertificateValidator(leaf, blocks(said.chain, x509.Certificate), validation_context=context)
try:
    path = asyncio.run(validator.async_validate_usage({"digital_signature"}, {said.purpose}))
except Exception as error:
    raise SystemExit(f"refused: {type(error).__name__}: {error}") from None
print("accepted:", ", ".join(one.subject.human_friendly or "(no subject)" for one in path))

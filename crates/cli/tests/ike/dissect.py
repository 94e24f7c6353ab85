"""Lets a dissector from elsewhere read a captured session with its keys: dissect.py CAPTURE KEYS

Every encrypted message must open, every checksum be right, and nothing be malformed; says how much there was of each.
"""

import json
import re
import subprocess
import sys

ENCRYPTIONS = {(20, 256): "AES-GCM-256 with 16 octet ICV [RFC5282]", (20, 128): "AES-GCM-128 with 16 octet ICV [RFC5282]",
               (12, 256): "AES-CBC-256 [RFC3602]", (12, 128): "AES-CBC-128 [RFC3602]"}
INTEGRITIES = {None: "NONE [RFC4306]", 12: "HMAC_SHA2_256_128 [RFC4868]", 13: "HMAC_SHA2_384_192 [RFC4868]", 14: "HMAC_SHA2_512_256 [RFC4868]"}

tables = []
for line in open(sys.argv[2]):
    spi_i, spi_r, ei, er, ai, ar, encryption, bits, integrity = json.loads(line)["ike"]
    row = f'{spi_i},{spi_r},{ei},{er},"{ENCRYPTIONS[encryption, bits]}",{ai},{ar},"{INTEGRITIES[integrity]}"'
    tables += ["-o", "uat:ikev2_decryption_table:" + row]
read = subprocess.run(["tshark", "-r", sys.argv[1], "-V", *tables], capture_output=True, text=True)
text = read.stdout
counts = {
    "encrypted": text.count("Payload: Encrypted and Authenticated"),
    "right": text.count("[correct]"),
    "wrong": len(re.findall(r"\[incorrect", text)),
    "malformed": len(re.findall(r"[Mm]alformed", text)),
    "selectors": text.count("Payload: Traffic Selector"),
    "esp": text.count("Encapsulating Security Payload"),
    "status": read.returncode,
}
print(json.dumps(counts))

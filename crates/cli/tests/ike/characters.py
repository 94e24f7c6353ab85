"""What the clients that systems have built in say, as far as it is known here: two families of phones, two of computers, each in a current
and an older generation. Nobody had a device at hand: every cell says where it is from, `memory` where it is from nothing better, and a
doubtful one has two values, which are both played.

    characters.py list                   the names of all variants
    characters.py NAME PLAY.json         completes a play by a character
"""

import itertools
import json
import sys

import suite as c

MEMORY = "memory"
PROFILE = "the handover sets it"
RFC = "RFC 7296 section 2.21"


class Doubtful:
    def __init__(self, *values):
        self.values = values


def ike(encr, bits, prf, groups, integ=None):
    offer = [(c.ENCR, encr, bits)] if bits else [(c.ENCR, encr)]
    offer += [(c.PRF, prf)] + ([(c.INTEG, integ)] if integ else [])
    return offer + [(c.KE, group) for group in groups]


def esp(encr, bits, integ=None, esn=(0,)):
    offer = [(c.ENCR, encr, bits)] if bits else [(c.ENCR, encr)]
    return offer + ([(c.INTEG, integ)] if integ else []) + [(c.ESN, one) for one in esn]


IP4, NETMASK, DNS4, NBNS, DHCP4, IP6, DNS6, DOMAIN = 1, 2, 3, 4, 6, 8, 10, 25

CHARACTERS = {
    # Profiles of this family name one encryption, one integrity, one group.
    "tablet-now": {
        "ike": ([ike(c.AES_GCM_16, 256, c.PRF_256, [c.KE_P256])], PROFILE),
        "esp": ([esp(c.AES_GCM_16, 256)], PROFILE),
        "kind": ("fqdn", PROFILE),
        "idr": (True, PROFILE),
        "hashes": (Doubtful([2, 3, 4], None), MEMORY),
        "sign": (Doubtful("7427", "4754"), MEMORY),
        "attributes": ([IP4, DHCP4, DNS4, NETMASK, IP6, DNS6, DOMAIN], MEMORY),
        "mobike": (True, MEMORY),
        "fragments": (True, MEMORY),
        "certificates": (1, MEMORY),
        "rekey_group": (c.KE_P256, "the handover asks for forward secrecy"),
    },
    "tablet-before": {
        "ike": ([ike(c.AES_CBC, 256, c.PRF_256, [c.KE_2048], c.INTEG_256)], MEMORY),
        "esp": ([esp(c.AES_CBC, 256, c.INTEG_256)], MEMORY),
        "kind": ("fqdn", PROFILE),
        "idr": (True, PROFILE),
        "hashes": (None, MEMORY),
        "sign": ("4754", MEMORY),
        "attributes": ([IP4, DNS4, NETMASK, IP6, DNS6], MEMORY),
        "mobike": (True, MEMORY),
        "fragments": (Doubtful(True, False), MEMORY),
        "certificates": (1, MEMORY),
        "rekey_group": (Doubtful(None, c.KE_2048), MEMORY),
    },
    "phone-now": {
        "ike": ([ike(c.AES_GCM_16, 256, c.PRF_512, [c.KE_X25519, c.KE_4096, c.KE_2048]) + [(c.ENCR, c.AES_GCM_16, 128), (c.PRF, c.PRF_384), (c.PRF, c.PRF_256)],
                 ike(c.CHACHA, None, c.PRF_256, [c.KE_X25519])], MEMORY),
        "esp": ([esp(c.CHACHA, None), esp(c.AES_GCM_16, 256)], MEMORY),
        "kind": ("fqdn", PROFILE),
        "idr": (True, PROFILE),
        "hashes": ([1, 2, 3, 4], MEMORY),
        "sign": (Doubtful("7427", "pss"), MEMORY),
        "attributes": ([IP4, IP6, DNS4, DNS6, NETMASK], MEMORY),
        "mobike": (True, MEMORY),
        "fragments": (True, MEMORY),
        "certificates": (9, MEMORY),
        "rekey_group": (None, MEMORY),
    },
    "phone-before": {
        "ike": ([ike(c.AES_CBC, 256, c.PRF_512, [c.KE_4096, c.KE_2048], c.INTEG_512) + [(c.ENCR, c.AES_CBC, 128), (c.INTEG, c.INTEG_256), (c.PRF, c.PRF_256)]], MEMORY),
        "esp": ([esp(c.AES_CBC, 256, c.INTEG_256)], MEMORY),
        "kind": (Doubtful("fqdn", "key"), MEMORY),
        "idr": (True, PROFILE),
        "hashes": ([1, 2, 3, 4], MEMORY),
        "sign": ("7427", MEMORY),
        "attributes": ([IP4, IP6, DNS4, DNS6], MEMORY),
        "mobike": (False, MEMORY),
        "fragments": (True, MEMORY),
        "certificates": (1, MEMORY),
        "rekey_group": (None, MEMORY),
    },
    # The handover names strong algorithms; without it this family offers MODP of 1024 bits.
    "desk-now": {
        "ike": ([ike(c.AES_GCM_16, 256, c.PRF_256, [c.KE_P256])], PROFILE),
        "esp": ([esp(c.AES_GCM_16, 256)], PROFILE),
        "kind": ("name", MEMORY),
        "idr": (False, MEMORY),
        "hashes": (None, MEMORY),
        "sign": (Doubtful("4754", "rsa"), MEMORY),
        "attributes": ([IP4, DNS4, NBNS, 23456, IP6, DNS6], MEMORY),
        "mobike": (True, MEMORY),
        "fragments": (True, MEMORY),
        "certificates": (1, MEMORY),
        "other_authorities": (60, "one for each root that the system trusts; the number is from memory"),
        "rekey_group": (None, MEMORY),
    },
    "desk-before": {
        "ike": ([ike(c.AES_CBC, 256, c.PRF_256, [c.KE_P256], c.INTEG_256), ike(c.AES_CBC, 256, c.PRF_256, [c.KE_2048], c.INTEG_256)], PROFILE),
        "esp": ([esp(c.AES_GCM_16, 256), esp(c.AES_CBC, 256, c.INTEG_256)], PROFILE),
        "kind": ("name", MEMORY),
        "idr": (False, MEMORY),
        "hashes": (None, MEMORY),
        "sign": ("rsa", MEMORY),
        "attributes": ([IP4, DNS4, NBNS, 23456], MEMORY),
        "mobike": (True, MEMORY),
        "fragments": (False, MEMORY),
        "certificates": (1, MEMORY),
        "other_authorities": (60, "as above"),
        "rekey_group": (None, MEMORY),
    },
    "book-now": {
        "ike": ([ike(c.AES_GCM_16, 256, c.PRF_384, [c.KE_P384]), ike(c.AES_CBC, 256, c.PRF_256, [c.KE_P256, c.KE_2048], c.INTEG_256)], MEMORY),
        "first_group": (Doubtful(c.KE_P384, c.KE_P256), "a first key of the wrong group " + RFC),
        "esp": ([esp(c.AES_GCM_16, 256, esn=(1, 0)), esp(c.CHACHA, None, esn=(1, 0))], MEMORY),
        "kind": ("fqdn", PROFILE),
        "idr": (True, PROFILE),
        "hashes": ([2, 3, 4, 5], MEMORY),
        "sign": ("7427", MEMORY),
        "attributes": ([IP4, DNS4, NETMASK, IP6, DNS6, DOMAIN], MEMORY),
        "mobike": (True, MEMORY),
        "fragments": (True, MEMORY),
        "certificates": (9, MEMORY),
        "rekey_group": (c.KE_P384, MEMORY),
    },
    "book-before": {
        "ike": ([ike(c.AES_CBC, 256, c.PRF_256, [c.KE_2048], c.INTEG_256), ike(c.AES_CBC, 128, c.PRF_SHA1, [c.KE_1024], c.INTEG_SHA1_96)], MEMORY),
        "esp": ([esp(c.AES_CBC, 256, c.INTEG_256)], MEMORY),
        "kind": (Doubtful("fqdn", "mail"), MEMORY),
        "idr": (Doubtful(True, False), MEMORY),
        "hashes": (None, MEMORY),
        "sign": ("rsa", MEMORY),
        "attributes": ([IP4, DNS4], MEMORY),
        "mobike": (False, MEMORY),
        "fragments": (False, MEMORY),
        "certificates": (1, MEMORY),
        "rekey_group": (None, MEMORY),
    },
}


def variants():
    """Every character, once for each way in which its doubtful cells may be."""
    for name, cells in CHARACTERS.items():
        doubtful = [key for key, (value, _) in cells.items() if isinstance(value, Doubtful)]
        for number, values in enumerate(itertools.product(*[cells[key][0].values for key in doubtful])):
            made = {key: value for key, (value, _) in cells.items()} | dict(zip(doubtful, values))
            # A digital signature (RFC 7427) is made towards whoever announces hashes, and only by whoever announces some.
            if made["hashes"] is None and made["sign"] in ("7427", "pss"):
                continue
            yield f"{name}/{number}", {key: value for key, value in made.items() if value is not None}


if __name__ == "__main__":
    if sys.argv[1] == "list":
        print("\n".join(name for name, _ in variants()))
    else:
        play = json.load(open(sys.argv[2]))
        cells = dict(variants())[sys.argv[1]]
        print(json.dumps(cells | play))

"""The published examples that `suite` must give, before anybody trusts what it says of the program."""

import suite as c


def h(text):
    return bytes.fromhex("".join(text.split()))


def same(what, got, wanted):
    assert got == wanted, f"{what}: {got!r} instead of {wanted!r}"
    print("ok", what)


same("RFC 1320 A.5", c.md4(b"message digest"), h("d9130a8164549fe818874806e1c7014b"))
authenticator, peer = h("5B5D7C7D7B3F2F3E3C2C602132262628"), h("21402324255E262A28295F2B3A337C7E")
same("RFC 2759 9.2 challenge", c.challenge_hash(peer, authenticator, "User"), h("D02E4386BCE91226"))
same("RFC 2759 9.2 hash", c.nt_hash("clientPass"), h("44EBBA8D5312B8D611474411F56989AE"))
response = c.nt_response(authenticator, peer, "User", "clientPass")
same("RFC 2759 9.2 response", response, h("82309ECD8D708B5EA08FAA3981CD83544233114A3D85D6DF"))
said = c.authenticator_response("clientPass", response, peer, authenticator, "User")
same("RFC 2759 9.2 answer", said, "S=407A5589115FD0D6209F510FE9C04566932CDA56")
same("RFC 3079 3.5.3 master", c.chap_master("clientPass", response), h("FDECE3717A8C838CB388E527AE3CDD31"))
same("RFC 3079 3.5.3 send", c.chap_key(h("FDECE3717A8C838CB388E527AE3CDD31"), True, True), h("8B7CDC149B993A1BA118CB153F56DCCB"))

i = c.Exchange(c.KE_P256, h("C88F01F510D9AC3F70A292DAA2316DE544E9AAB8AFE84049C62A9C57862D1433"))
r = c.Exchange(c.KE_P256, h("C6EF9C5D78AE012A011164ACB397CE2088685D8F06BF9BE0B283AB46476BEE53"))
same("RFC 5903 8.1 public", i.public, h("""DAD0B65394221CF9B051E1FECA5787D098DFE637FC90B9EF945D0C3772581180
    5271A0461CDB8252D61F1C456FA3E59AB1F45B33ACCF5F58389E0577B8990BB3"""))
same("RFC 5903 8.1 shared", i.shared(r.public), h("D6840F6B42F6EDAFD13116E0E12565202FEF8E9ECE7DCE03812464D04B9442DE"))

i = c.Exchange(c.KE_X25519, h("751fb4308655b476b6789b7325f9ea8cddd16a58533ff6d9e60009464a5f9d94"))
r = c.Exchange(c.KE_X25519, h("0a54645253290d60ddadd0e030bacd9e5501efdc220755a1e978f1b839a05688"))
same("RFC 8031 A public", i.public, h("48d5ddd4061257ba166fa3f9bbdb74f1a4e81c089384fa77f790709f0dfbc766"))
same("RFC 8031 A answer", r.public, h("0be7c1f5aad87d7e448662673298a443478b859745179eaf564c79c0ef6eee25"))
same("RFC 8031 A shared", i.shared(r.public), h("c74950607a12327f3204d94b6825bfb068b7f8319a9e3708ed3d43ce8130c950"))

# RFC 7634 appendix A.
key = bytes(range(0x80, 0xA0)) + bytes(range(0xA0, 0xA4))
plain = h("45000054a6f200004001e778c6336405c000020508005b7a3a080000553bec100007362708090a0b0c0d0e0f101112131415161718191a1b1c1d1e1f"
          "202122232425262728292a2b2c2d2e2f303132333435363701020204")
sealed = c.Suite(c.CHACHA).seal(key, b"", h("0102030400000005"), h("1011121314151617"), plain)
same("RFC 7634 A", sealed, h("24039428b97f417e3c13753a4f05087b67c352e6a7fab1b982d466ef407ae5c614ee8099d52844eb61aa95dfab4c02f72aa71e7c4c4f64c9befe"
                             "2facc638e8f3cbec163fac469b502773f6fb94e664da9165b82829f641e076aaa8266b7fb0f7b11b369907e1ad43"))
# RFC 3526: the primes begin and end with 64 ones.
for bits, addend in c.MODP.values():
    prime = c.modp(bits, addend)
    same(f"prime of {bits} bits", (prime.bit_length(), prime >> (bits - 64), prime & ((1 << 64) - 1)), (bits, (1 << 64) - 1, (1 << 64) - 1))
    assert pow(3, prime - 1, prime) == 1 and pow(3, (prime - 1) // 2 - 1, (prime - 1) // 2) == 1, "a safe prime"

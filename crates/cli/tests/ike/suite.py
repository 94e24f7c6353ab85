"""The cryptography of IKEv2 and ESP for a device in tests: from the RFCs, over `cryptography` alone, and nothing of it shared with the program."""

import hashlib
import hmac
import os

from cryptography.hazmat.primitives.asymmetric import ec, x25519
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESGCM, ChaCha20Poly1305

# Transform types (RFC 7296 section 3.3.2) and the numbers of those that are played.
ENCR, PRF, INTEG, KE, ESN = 1, 2, 3, 4, 5
DES3, AES_CBC, AES_GCM_16, CHACHA = 3, 12, 20, 28
PRF_SHA1, PRF_256, PRF_384, PRF_512 = 2, 5, 6, 7
INTEG_SHA1_96, INTEG_256, INTEG_384, INTEG_512 = 2, 12, 13, 14
KE_1024, KE_1536, KE_2048, KE_3072, KE_4096, KE_P256, KE_P384, KE_X25519 = 2, 5, 14, 15, 16, 19, 20, 31

PRFS = {PRF_SHA1: ("sha1", 20), PRF_256: ("sha256", 32), PRF_384: ("sha384", 48), PRF_512: ("sha512", 64)}
# Hash, bytes of key, bytes of the tag (RFC 4868 section 2.3).
INTEGS = {INTEG_SHA1_96: ("sha1", 20, 12), INTEG_256: ("sha256", 32, 16), INTEG_384: ("sha384", 48, 24), INTEG_512: ("sha512", 64, 32)}


def pi_digits(bits):
    """floor(2^bits * pi), by Machin's formula: the primes of RFC 3526 are made of it."""
    one = 1 << (bits + 64)

    def arctan_inverse(x):
        power = one // x
        total, n, sign = power, 1, 1
        while power:
            power //= x * x
            n += 2
            sign = -sign
            total += sign * (power // n)
        return total

    return (4 * (4 * arctan_inverse(5) - arctan_inverse(239))) >> 64


def modp(bits, addend):
    """2^n - 2^(n-64) - 1 + 2^64 * (floor(2^(n-130) pi) + addend) (RFC 2409, RFC 3526)."""
    return (1 << bits) - (1 << (bits - 64)) - 1 + (1 << 64) * (pi_digits(bits - 130) + addend)


MODP = {KE_1024: (1024, 129093), KE_1536: (1536, 741804), KE_2048: (2048, 124476), KE_3072: (3072, 1690314), KE_4096: (4096, 240904)}


class Exchange:
    """One end of a key exchange (RFC 7296 section 3.4, RFC 3526, RFC 5903, RFC 8031)."""

    def __init__(self, group, private=None):
        self.group = group
        if group == KE_X25519:
            self.key = x25519.X25519PrivateKey.from_private_bytes(private) if private else x25519.X25519PrivateKey.generate()
            self.public = self.key.public_key().public_bytes_raw()
        elif group in (KE_P256, KE_P384):
            self.curve, self.size = (ec.SECP256R1(), 32) if group == KE_P256 else (ec.SECP384R1(), 48)
            self.key = ec.derive_private_key(int.from_bytes(private, "big"), self.curve) if private else ec.generate_private_key(self.curve)
            point = self.key.public_key().public_numbers()
            self.public = point.x.to_bytes(self.size, "big") + point.y.to_bytes(self.size, "big")
        else:
            bits, addend = MODP[group]
            self.size, self.prime = bits // 8, modp(bits, addend)
            self.key = int.from_bytes(private or os.urandom(48), "big")
            self.public = pow(2, self.key, self.prime).to_bytes(self.size, "big")

    def shared(self, other):
        if self.group == KE_X25519:
            return self.key.exchange(x25519.X25519PublicKey.from_public_bytes(other))
        if self.group in (KE_P256, KE_P384):
            assert len(other) == 2 * self.size, "a point is x and y"
            point = ec.EllipticCurvePublicKey.from_encoded_point(self.curve, b"\x04" + other)
            return self.key.exchange(ec.ECDH(), point)
        assert len(other) == self.size, "as long as the prime"
        number = int.from_bytes(other, "big")
        assert 1 < number < self.prime - 1, "not a trivial subgroup"
        return pow(number, self.key, self.prime).to_bytes(self.size, "big")


def prf(number, key, data):
    return hmac.new(key, data, PRFS[number][0]).digest()


def prf_plus(number, key, seed, length):
    """RFC 7296 section 2.13."""
    out, block, counter = b"", b"", 1
    while len(out) < length:
        block = prf(number, key, block + seed + bytes([counter]))
        out += block
        counter += 1
    return out[:length]


class Suite:
    """What was agreed for one association: encryption with its key length in bits, integrity (None with AEAD), PRF, group, ESN."""

    def __init__(self, encr, bits=None, integ=None, prf=None, group=None, esn=0):
        self.encr, self.bits, self.integ, self.prf, self.group, self.esn = encr, bits, integ, prf, group, esn
        self.aead = encr in (AES_GCM_16, CHACHA)

    def encr_key(self):
        """Bytes of encryption key with its salt (RFC 4106 section 8.1, RFC 7634 section 2)."""
        return {AES_GCM_16: (self.bits or 0) // 8 + 4, CHACHA: 36, AES_CBC: (self.bits or 0) // 8}[self.encr]

    def integ_key(self):
        return 0 if self.aead else INTEGS[self.integ][1]

    def tag(self):
        return 16 if self.aead else INTEGS[self.integ][2]

    def iv(self):
        return 8 if self.aead else 16

    def seal(self, encr_key, integ_key, head, iv, plain, covered=None):
        """Ciphertext and tag of an already padded `plain`. `head`: what is authenticated before the IV; `covered`: instead, for what only
        counts (the high half of an extended sequence number)."""
        if self.aead:
            made = AESGCM(encr_key[:-4]) if self.encr == AES_GCM_16 else ChaCha20Poly1305(encr_key[:-4])
            return made.encrypt(encr_key[-4:] + iv, plain, head if covered is None else covered)
        worker = Cipher(algorithms.AES(encr_key), modes.CBC(iv)).encryptor()
        secret = worker.update(plain) + worker.finalize()
        hash_, _, tag = INTEGS[self.integ]
        extra = covered if covered is not None else b""
        return secret + hmac.new(integ_key, head + iv + secret + extra, hash_).digest()[:tag]

    def open(self, encr_key, integ_key, head, iv, sealed, covered=None):
        if self.aead:
            made = AESGCM(encr_key[:-4]) if self.encr == AES_GCM_16 else ChaCha20Poly1305(encr_key[:-4])
            return made.decrypt(encr_key[-4:] + iv, sealed, head if covered is None else covered)
        hash_, _, tag = INTEGS[self.integ]
        secret, got = sealed[:-tag], sealed[-tag:]
        extra = covered if covered is not None else b""
        assert hmac.compare_digest(hmac.new(integ_key, head + iv + secret + extra, hash_).digest()[:tag], got), "the tag is right"
        worker = Cipher(algorithms.AES(encr_key), modes.CBC(iv)).decryptor()
        return worker.update(secret) + worker.finalize()


# MS-CHAPv2 (RFC 2759), its keys (RFC 3079). MD4 and DES are here in full: no package that is current has them.


def md4(data):
    """RFC 1320."""
    import struct

    def rotate(x, n):
        return ((x << n) | (x >> (32 - n))) & 0xFFFFFFFF

    text = data + b"\x80" + b"\0" * ((55 - len(data)) % 64) + struct.pack("<Q", 8 * len(data))
    state = [0x67452301, 0xEFCDAB89, 0x98BADCFE, 0x10325476]
    for start in range(0, len(text), 64):
        x = struct.unpack("<16I", text[start : start + 64])
        a, b, c, d = state
        for i in range(48):
            if i < 16:
                f, k, s, add = (b & c) | (~b & d), i, (3, 7, 11, 19)[i % 4], 0
            elif i < 32:
                f, k, s, add = (b & c) | (b & d) | (c & d), (i % 4) * 4 + (i - 16) // 4, (3, 5, 9, 13)[i % 4], 0x5A827999
            else:
                f, k, s, add = b ^ c ^ d, (0, 8, 4, 12, 2, 10, 6, 14, 1, 9, 5, 13, 3, 11, 7, 15)[i - 32], (3, 9, 11, 15)[i % 4], 0x6ED9EBA1
            a, b, c, d = d, rotate((a + (f & 0xFFFFFFFF) + x[k] + add) & 0xFFFFFFFF, s), b, c
        state = [(old + new) & 0xFFFFFFFF for old, new in zip(state, (a, b, c, d))]
    return struct.pack("<4I", *state)


def des(seven, block):
    """One block of DES under 7 bytes of key: three equal keys of triple DES are one of DES."""
    try:
        from cryptography.hazmat.decrepit.ciphers.algorithms import TripleDES
    except ImportError:
        TripleDES = algorithms.TripleDES
    bits = int.from_bytes(seven, "big")
    key = bytes(((bits >> (49 - 7 * i)) & 0x7F) << 1 for i in range(8))
    worker = Cipher(TripleDES(key * 3), modes.ECB()).encryptor()
    return worker.update(block) + worker.finalize()


def nt_hash(password):
    return md4(password.encode("utf-16-le"))


def challenge_hash(peer, authenticator, name):
    """RFC 2759 section 8.2: the name without its domain."""
    return hashlib.sha1(peer + authenticator + name.split("\\")[-1].encode()).digest()[:8]


def nt_response(authenticator, peer, name, password):
    challenge, key = challenge_hash(peer, authenticator, name), nt_hash(password) + b"\0" * 5
    return b"".join(des(key[i : i + 7], challenge) for i in (0, 7, 14))


MAGIC_SIGN = b"Magic server to client signing constant"
MAGIC_PAD = b"Pad to make it do more than one iteration"


def authenticator_response(password, response, peer, authenticator, name):
    """RFC 2759 section 8.7."""
    digest = hashlib.sha1(md4(nt_hash(password)) + response + MAGIC_SIGN).digest()
    return "S=" + hashlib.sha1(digest + challenge_hash(peer, authenticator, name) + MAGIC_PAD).hexdigest().upper()


def chap_master(password, response):
    return hashlib.sha1(md4(nt_hash(password)) + response + b"This is the MPPE Master Key").digest()[:16]


def chap_key(master, sends, server):
    """GetAsymmetricStartKey, 16 bytes (RFC 3079 section 3.4)."""
    device_sends = b"On the client side, this is the send key; on the server side, it is the receive key."
    server_sends = b"On the client side, this is the receive key; on the server side, it is the send key."
    magic = server_sends if sends == server else device_sends
    return hashlib.sha1(master + b"\0" * 40 + magic + b"\xf2" * 40).digest()[:16]


def chap_msk(password, response):
    """64 bytes: what the device sends with, what it receives with, zeros; as seen from the server, receive before send."""
    master = chap_master(password, response)
    return chap_key(master, False, True) + chap_key(master, True, True) + b"\0" * 32

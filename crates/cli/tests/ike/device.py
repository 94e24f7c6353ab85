"""A device as phones and computers have it built in: an initiator of IKEv2 (RFC 7296) and ESP (RFC 4303), from the RFCs alone.

    device.py PLAY.json      plays the steps of a play, says what came of each as a line of JSON, and ends with the first that fails

Nothing here was read off the program that it judges: every field of what a gateway says is checked against the RFC that names it, and an
unexpected one ends the play with `error`.
"""

import hashlib
import json
import os
import random
import select
import socket
import struct
import sys
import time

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import Prehashed, decode_dss_signature, encode_dss_signature

import suite as c

INIT, AUTH_EXCHANGE, CREATE, INFO = 34, 35, 36, 37
SA, KE, IDI, IDR, CERT, CERTREQ, AUTH, NONCE, NOTIFY, DELETE, VENDOR, TSI, TSR, SK, CP, EAP, SKF = (
    33, 34, 35, 36, 37, 38, 39, 40, 41, 42, 43, 44, 45, 46, 47, 48, 53)
CRITICAL = 0x80
INITIATOR, RESPONSE = 0x08, 0x20
N = {
    "UNSUPPORTED_CRITICAL_PAYLOAD": 1, "INVALID_IKE_SPI": 4, "INVALID_SYNTAX": 7, "INVALID_SPI": 11, "NO_PROPOSAL_CHOSEN": 14, "INVALID_KE_PAYLOAD": 17,
    "AUTHENTICATION_FAILED": 24, "NO_ADDITIONAL_SAS": 35, "INTERNAL_ADDRESS_FAILURE": 36, "FAILED_CP_REQUIRED": 37, "TS_UNACCEPTABLE": 38,
    "TEMPORARY_FAILURE": 43, "CHILD_SA_NOT_FOUND": 44, "INITIAL_CONTACT": 16384, "NAT_DETECTION_SOURCE_IP": 16388,
    "NAT_DETECTION_DESTINATION_IP": 16389, "COOKIE": 16390, "USE_TRANSPORT_MODE": 16391, "REKEY_SA": 16393,
    "ESP_TFC_PADDING_NOT_SUPPORTED": 16394, "NON_FIRST_FRAGMENTS_ALSO": 16395, "MOBIKE_SUPPORTED": 16396, "UPDATE_SA_ADDRESSES": 16400,
    "COOKIE2": 16401, "AUTH_LIFETIME": 16403, "IKEV2_FRAGMENTATION_SUPPORTED": 16430, "SIGNATURE_HASH_ALGORITHMS": 16431,
}
NAMES = {number: name for name, number in N.items()}
IP4, NETMASK, DNS4, IP6, DNS6, DOMAIN = 1, 2, 3, 8, 10, 25
HASHES = {1: "sha1", 2: "sha256", 3: "sha384", 4: "sha512", 5: "identity"}
# AlgorithmIdentifiers of RFC 7427 appendix A.
OIDS = {
    "rsa-sha256": bytes.fromhex("300d06092a864886f70d01010b0500"), "ecdsa-sha256": bytes.fromhex("300a06082a8648ce3d040302"),
    "ecdsa-sha384": bytes.fromhex("300a06082a8648ce3d040303"), "ed25519": bytes.fromhex("300506032b6570"),
    "rsapss-sha256": bytes.fromhex("304106092a864886f70d01010a3034a00f300d06096086480165030402010500a11c301a06092a864886f70d010108300d0609608648"
                                   "0165030402010500a203020120"),
}
OIDS["rsa-sha384"] = bytes.fromhex("300d06092a864886f70d01010c0500")
OIDS["rsa-sha512"] = bytes.fromhex("300d06092a864886f70d01010d0500")


class Refused(Exception):
    """The gateway said no."""


def check(condition, what):
    if not condition:
        raise AssertionError(what)


def payload(kind, body, critical=False):
    return kind, bytes([CRITICAL if critical else 0]), body


def chain(payloads):
    """The payloads laid out, and the kind of the first."""
    out = b""
    for at, (_, flags, body) in enumerate(payloads):
        following = payloads[at + 1][0] if at + 1 < len(payloads) else 0
        out += bytes([following]) + flags + struct.pack(">H", len(body) + 4) + body
    return (payloads[0][0] if payloads else 0), out


def unchain(kind, data):
    found = []
    while kind:
        check(len(data) >= 4, "a payload has a header")
        following, flags, length = data[0], data[1], struct.unpack(">H", data[2:4])[0]
        check(flags & 0x7F == 0, "reserved bits are zero")
        check(4 <= length <= len(data), "a payload ends within its message")
        found.append((kind, data[4:length]))
        if kind in (SK, SKF):
            check(length == len(data), "what is encrypted comes last")
            return found, following
        kind, data = following, data[length:]
    check(not data, "nothing follows the last payload")
    return found, 0


def notify(name, data=b"", protocol=0, spi=b""):
    return payload(NOTIFY, struct.pack(">BBH", protocol, len(spi), N[name]) + spi + data)


def read_notify(body):
    protocol, size, kind = struct.unpack(">BBH", body[:4])
    return NAMES.get(kind, str(kind)), body[4 + size:], protocol, body[4:4 + size]


def transform(kind, number, bits=None):
    attribute = struct.pack(">HH", 0x800E, bits) if bits else b""
    return struct.pack(">BBHBBH", 3, 0, 8 + len(attribute), kind, 0, number) + attribute


def proposals(protocol, spi, offers):
    """An SA payload of offers; each a list of (kind, number, bits)."""
    out = b""
    for at, offer in enumerate(offers):
        transforms = [bytearray(transform(*one)) for one in offer]
        transforms[-1][0] = 0
        body = b"".join(bytes(one) for one in transforms)
        out += struct.pack(">BBHBBBB", 0 if at + 1 == len(offers) else 2, 0, 8 + len(spi) + len(body), at + 1, protocol, len(spi), len(offer)) + spi + body
    return payload(SA, out)


def read_chosen(body, protocol, offers, spi_size):
    """The one proposal that was chosen: its suite and SPI. It must be one of the offers, with one transform of each kind."""
    last, _, length, number, got, size, count = struct.unpack(">BBHBBBB", body[:8])
    check(last == 0 and length == len(body), "one proposal is chosen")
    check(got == protocol and size == spi_size, "of the protocol that was offered")
    check(1 <= number <= len(offers), "one of those that were offered")
    spi, rest, chosen = body[8:8 + size], body[8 + size:], []
    for at in range(count):
        more, _, length, kind, _, what = struct.unpack(">BBHBBH", rest[:8])
        check((more == 0) == (at + 1 == count), "the last transform says so")
        bits = struct.unpack(">HH", rest[8:12])[1] if length == 12 else None
        check(length in (8, 12) and (length == 8 or rest[8:10] == b"\x80\x0e"), "the key length alone is an attribute")
        chosen.append((kind, what, bits))
        rest = rest[length:]
    check(not rest, "nothing follows the transforms")
    offer = [(one + (None,))[:3] for one in offers[number - 1]]
    check(all(one in offer for one in chosen), f"{chosen} was offered")
    kinds = [kind for kind, _, _ in chosen]
    check(sorted(kinds) == sorted({kind for kind, _, _ in offer}), "one transform of each kind")
    by = {kind: (what, bits) for kind, what, bits in chosen}
    encr, bits = by[c.ENCR]
    get = lambda kind: by.get(kind, (None,))[0]
    return c.Suite(encr, bits, get(c.INTEG), get(c.PRF), get(c.KE), get(c.ESN) or 0), spi


def selector(first, last, kind=7, protocol=0, ports=(0, 65535)):
    return struct.pack(">BBHHH", kind, protocol, 8 + len(first) + len(last), *ports) + first + last


ALL_TS = [(7, bytes(4), b"\xff" * 4), (8, bytes(16), b"\xff" * 16)]


def ts_payload(kind, ranges):
    return payload(kind, bytes([len(ranges), 0, 0, 0]) + b"".join(selector(first, last, which) for which, first, last in ranges))


def read_ts(body):
    count, rest, found = body[0], body[4:], []
    check(body[1:4] == bytes(3), "reserved bytes are zero")
    for _ in range(count):
        kind, protocol, length, low, high = struct.unpack(">BBHHH", rest[:8])
        half = {7: 4, 8: 16}[kind]
        check(length == 8 + 2 * half, "a selector is as long as its family")
        check((protocol, low, high) == (0, 0, 65535), "any protocol and port")
        found.append((kind, rest[8:8 + half], rest[8 + half:length]))
        rest = rest[length:]
    check(not rest, "nothing follows the selectors")
    return found


def text(address):
    return socket.inet_ntop(socket.AF_INET if len(address) == 4 else socket.AF_INET6, address)


def checksum(data):
    total = sum(struct.unpack(f">{len(data) // 2}H", data[: len(data) // 2 * 2])) + (data[-1] << 8 if len(data) % 2 else 0)
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def echo(source, destination, number, size=56, tos=0):
    """An echo request in IPv4 or IPv6, ready to be put into the tunnel."""
    data = bytes(i & 0xFF for i in range(size))
    if len(source) == 4:
        body = struct.pack(">BBHHH", 8, 0, 0, 0x2A, number) + data
        body = body[:2] + struct.pack(">H", checksum(body)) + body[4:]
        head = struct.pack(">BBHHHBBH", 0x45, tos, 20 + len(body), number, 0, 64, 1, 0) + source + destination
        return head[:10] + struct.pack(">H", checksum(head)) + head[12:] + body
    body = struct.pack(">BBHHH", 128, 0, 0, 0x2A, number) + data
    pseudo = source + destination + struct.pack(">IxxxB", len(body), 58)
    body = body[:2] + struct.pack(">H", checksum(pseudo + body)) + body[4:]
    return struct.pack(">IHBB", 6 << 28 | tos << 20, len(body), 58, 64) + source + destination + body


class Sa:
    """One IKE security association."""

    def __init__(self, suite, spi_i, spi_r, ours, sk):
        self.suite, self.spi_i, self.spi_r, self.initiator = suite, spi_i, spi_r, ours
        self.d, ai, ar, ei, er, self.pi, self.pr = sk
        self.out_encr, self.out_integ, self.in_encr, self.in_integ = (ei, ai, er, ar) if ours else (er, ar, ei, ai)
        self.next, self.expected, self.answers = 0, 0, {}
        self.ivs = {}

    @staticmethod
    def derive(suite, seed, ni, nr, spi_i, spi_r, ours):
        """RFC 7296 section 2.14; a key of the PRF is as long as its output."""
        size, integ, encr = c.PRFS[suite.prf][1], suite.integ_key(), suite.encr_key()
        lengths = [size, integ, integ, encr, encr, size, size]
        stream, parts = c.prf_plus(suite.prf, seed, ni + nr + spi_i + spi_r, sum(lengths)), []
        for length in lengths:
            parts.append(stream[:length])
            stream = stream[length:]
        return Sa(suite, spi_i, spi_r, ours, parts)

    def head(self, first, exchange, flags, number, length):
        return self.spi_i + self.spi_r + struct.pack(">BBBBII", first, 0x20, exchange, flags | (INITIATOR if self.initiator else 0), number, length)

    def seal(self, exchange, flags, number, payloads, part=None):
        """A message; `part`: number, of how many, the kind of the first payload, its plain bytes (RFC 7383)."""
        first, plain = chain(payloads) if part is None else (part[2] if part[0] == 1 else 0, part[3])
        suite = self.suite
        pad = 0 if suite.aead else -(len(plain) + 1) % 16
        plain += bytes(pad) + bytes([pad])
        iv = os.urandom(suite.iv())
        front = b"" if part is None else struct.pack(">HH", part[0], part[1])
        length = 28 + 4 + len(front) + len(iv) + len(plain) + suite.tag()
        head = self.head(SK if part is None else SKF, exchange, flags, number, length)
        head += bytes([first, 0]) + struct.pack(">H", length - 28) + front
        return head + iv + suite.seal(self.out_encr, self.out_integ, head, iv, plain)

    def open(self, message, kind, first, body):
        """The payloads inside, or a part."""
        front = 4 if kind == SKF else 0
        suite, at = self.suite, len(message) - len(body)
        iv = body[front:front + suite.iv()]
        # The same message may come again, and then it is the same to the last byte.
        check(self.ivs.setdefault(iv, message) == message, "no initialization vector comes twice")
        plain = suite.open(self.in_encr, self.in_integ, message[:at + front], iv, body[front + suite.iv():])
        check(len(plain) > plain[-1], "the padding is within")
        plain = plain[: len(plain) - 1 - plain[-1]]
        if kind == SKF:
            return struct.unpack(">HH", body[:4]) + (first, plain)
        return unchain(first, plain)[0]


class Child:
    """A pair of ESP associations."""

    def __init__(self, suite, ours, theirs, out_keys, in_keys, tsi, tsr):
        self.suite, self.ours, self.theirs, self.out_keys, self.in_keys = suite, ours, theirs, out_keys, in_keys
        self.tsi, self.tsr, self.sent, self.seen, self.highest = tsi, tsr, 0, set(), 0

    @staticmethod
    def derive(suite, prf, d, seed, ours, theirs, initiated, tsi, tsr):
        """RFC 7296 section 2.17: from whoever initiated the exchange first, encryption before integrity."""
        one = suite.encr_key() + suite.integ_key()
        stream = c.prf_plus(prf, d, seed, 2 * one)
        cut = lambda keys: (keys[:suite.encr_key()], keys[suite.encr_key():])
        first, second = cut(stream[:one]), cut(stream[one:])
        return Child(suite, ours, theirs, *((first, second) if initiated else (second, first)), tsi, tsr)

    def seal(self, packet, number=None, pad_more=0):
        self.sent += 1
        number = number or self.sent
        suite, following = self.suite, 4 if packet[0] >> 4 == 4 else 41
        align = 4 if suite.aead else 16
        pad = -(len(packet) + 2) % align + align * pad_more
        plain = packet + bytes(range(1, pad + 1)) + bytes([pad, following])
        high = struct.pack(">I", number >> 32) if suite.esn else b""
        low = struct.pack(">I", number & 0xFFFFFFFF)
        iv = os.urandom(suite.iv()) if not suite.aead else struct.pack(">Q", number)
        if suite.aead:
            return self.theirs + low + iv + suite.seal(*self.out_keys, b"", iv, plain, self.theirs + high + low)
        return self.theirs + low + iv + suite.seal(*self.out_keys, self.theirs + low, iv, plain, high)

    def open(self, datagram):
        suite, low = self.suite, datagram[4:8]
        number = struct.unpack(">I", low)[0]
        high = struct.pack(">I", 0) if suite.esn else b""
        iv, sealed = datagram[8:8 + suite.iv()], datagram[8 + suite.iv():]
        check(number > 0 and number not in self.seen, "a sequence number is above zero and comes once")
        self.seen.add(number)
        self.highest = max(self.highest, number)
        if suite.aead:
            check(("iv", iv) not in self.seen, "no initialization vector comes twice")
            self.seen.add(("iv", iv))
            plain = suite.open(*self.in_keys, b"", iv, sealed, self.ours + high + low)
        else:
            plain = suite.open(*self.in_keys, self.ours + low, iv, sealed, high)
        pad, following = plain[-2], plain[-1]
        packet, padding_ = plain[: len(plain) - 2 - pad], plain[len(plain) - 2 - pad: -2]
        check(padding_ == bytes(range(1, pad + 1)), "padding counts up (RFC 4303 section 2.4)")
        check(len(plain) % 4 == 0, "padded to four bytes")
        check(following in (4, 41) and packet[0] >> 4 == (4 if following == 4 else 6), "the next header is that of the packet")
        return packet


class Device:
    def __init__(self, play):
        self.play = play
        self.ports = play.get("ports", [500, 4500])
        self.address = play["gateway"]
        self.children, self.inside, self.events, self.domains, self.resolvers = [], [], [], [], []
        self.addresses, self.gateway_says, self.esp = [], None, []
        self.fragments, self.mobike, self.ended, self.sent_last = False, False, None, None
        self.parts, self.ever = {}, set()
        # With a seed, datagrams of IKE are lost, doubled and late in both directions.
        self.chance, self.late = random.Random(play["bad_way"]) if "bad_way" in play else None, []
        self.capture = open(play["capture"], "wb") if play.get("capture") else None
        if self.capture:
            self.capture.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 101))
        self.keys_log = open(play["keys_log"], "a") if play.get("keys_log") else None
        self.bind()

    def bind(self):
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.socket.bind((self.play.get("from", ""), 0))
        # With what marks of congestion answers come (RFC 3168).
        self.socket.setsockopt(socket.IPPROTO_IP, socket.IP_RECVTOS, 1)
        self.outer = None

    # Datagrams.

    def send(self, message, port=None):
        port = port or self.port
        marker = bytes(4) if port == self.ports[1] else b""
        if not self.chance:
            self.captured(marker + message, self.socket.getsockname()[1], port, True)
            return self.socket.sendto(marker + message, (self.address, port))
        # A bad way: some are lost, some come twice, some later.
        self.late.append(marker + message)
        self.chance.shuffle(self.late)
        while self.late and self.chance.random() < 0.75:
            datagram = self.late.pop()
            for _ in range(2 if self.chance.random() < 0.25 else 1):
                if self.chance.random() < 0.8:
                    self.socket.sendto(datagram, (self.address, port))

    def captured(self, data, own, port, out):
        """A line of a capture (raw IP), for whoever dissects it."""
        if not self.capture:
            return
        here, there = socket.inet_aton("192.168.1.20"), socket.inet_aton(self.address)
        ends, ports = ((here, there), (own, port)) if out else ((there, here), (port, own))
        udp = struct.pack(">HHHH", *ports, 8 + len(data), 0) + data
        head = struct.pack(">BBHHHBBH", 0x45, 0, 20 + len(udp), 0, 0, 64, 17, 0) + ends[0] + ends[1]
        packet = head[:10] + struct.pack(">H", checksum(head)) + head[12:] + udp
        now = time.time()
        self.capture.write(struct.pack("<IIII", int(now), int(now % 1 * 1e6), len(packet), len(packet)) + packet)
        self.capture.flush()

    def datagrams(self, until):
        while (left := until - time.monotonic()) > 0:
            if select.select([self.socket], [], [], left)[0]:
                try:
                    data, beside, _, (address, port) = self.socket.recvmsg(65535, 64)
                    self.captured(data, self.socket.getsockname()[1], port, False)
                except ConnectionRefusedError:
                    continue
                if self.chance and port == self.ports[0] != self.port:
                    # Late, of the first exchange.
                    continue
                check(address == self.address and port == self.port, f"the answer comes from where was asked, not {address}:{port}")
                if self.chance and data[:4] == bytes(4) and self.chance.random() < 0.2:
                    continue
                if port == self.ports[1]:
                    if data[:4] != bytes(4):
                        self.outer = next((value[0] for level, kind, value in beside if (level, kind) == (socket.IPPROTO_IP, socket.IP_TOS)), None)
                        self.esp.append(data)
                        yield None
                        continue
                    data = data[4:]
                yield data

    def read_head(self, data):
        check(len(data) >= 28, "a header")
        first, version, exchange, flags, number, length = struct.unpack(">BBBBII", data[16:28])
        check(version == 0x20, "version 2.0")
        check(length == len(data), "the length in the header is that of the message")
        check(flags & ~(INITIATOR | RESPONSE) == 0, "no unknown flags")
        return data[:8], data[8:16], first, exchange, flags, number

    # IKE_SA_INIT.

    def hash_of(self, address, port):
        return hashlib.sha1(self.spi_i + self.spi_r + socket.inet_aton(address) + struct.pack(">H", port)).digest()

    def init(self):
        play = self.play
        self.port, self.spi_i, self.spi_r = self.ports[0], os.urandom(8), bytes(8)
        offers = [[tuple(one) for one in offer] for offer in play["ike"]]
        group = play.get("first_group") or next(one[1] for one in offers[0] if one[0] == c.KE)
        cookie, asked = [], 0
        nonce = os.urandom(play.get("nonce", 32))
        local = self.socket.getsockname()[1]
        while True:
            asked += 1
            check(asked < 5, "the gateway asks for ever new openings")
            exchange = c.Exchange(group)
            # Behind translation always: the hash of the source is one that cannot be right (RFC 7296 section 2.23).
            payloads = cookie + [proposals(1, b"", offers), payload(KE, struct.pack(">HH", group, 0) + exchange.public), payload(NONCE, nonce),
                                 notify("NAT_DETECTION_SOURCE_IP", self.hash_of("0.0.0.0", local)),
                                 notify("NAT_DETECTION_DESTINATION_IP", self.hash_of(self.address, self.ports[0]))]
            if play.get("fragments", True):
                payloads.append(notify("IKEV2_FRAGMENTATION_SUPPORTED"))
            if play.get("hashes"):
                payloads.append(notify("SIGNATURE_HASH_ALGORITHMS", b"".join(struct.pack(">H", one) for one in play["hashes"])))
            payloads += [payload(VENDOR, bytes.fromhex(one)) for one in play.get("vendors", [])]
            first, body = chain(payloads)
            self.request_init = self.spi_i + bytes(8) + struct.pack(">BBBBII", first, 0x20, INIT, INITIATOR, 0, 28 + len(body)) + body
            answer = self.ask_plain(self.request_init)
            found = unchain(answer[16], answer[28:])[0]
            said = {read_notify(body)[0]: read_notify(body)[1] for kind, body in found if kind == NOTIFY}
            if "COOKIE" in said:
                check(len(found) == 1 and 1 <= len(said["COOKIE"]) <= 64, "a cookie alone, of 1 to 64 bytes")
                check(answer[8:16] == bytes(8), "whoever asks for a cookie keeps nothing")
                cookie = [notify("COOKIE", said["COOKIE"])]
                self.events.append("cookie")
                continue
            if "INVALID_KE_PAYLOAD" in said:
                group = struct.unpack(">H", said["INVALID_KE_PAYLOAD"])[0]
                check(any((c.KE, group) == one[:2] for offer in offers for one in offer), "a group that was offered")
                self.events.append(f"group {group}")
                continue
            break
        by = {kind: body for kind, body in found}
        if SA not in by:
            raise Refused(next(iter(said), "nothing"))
        self.answer_init = answer
        suite, _ = read_chosen(by[SA], 1, offers, 0)
        check(struct.unpack(">H", by[KE][:2])[0] == suite.group == group and by[KE][2:4] == bytes(2), "the key is of the group that was chosen")
        self.ni, self.nr = nonce, by[NONCE]
        check(16 <= len(self.nr) <= 256 and 2 * len(self.nr) >= c.PRFS[suite.prf][1], "a nonce of 16 to 256 bytes, half the PRF's at least")
        self.spi_r = answer[8:16]
        check(self.spi_r != bytes(8), "the gateway has its SPI")
        check(said.get("NAT_DETECTION_DESTINATION_IP") is not None and len(said["NAT_DETECTION_DESTINATION_IP"]) == 20, "NAT detection")
        # By this hash clients are made to send ESP in UDP: it never is that of the gateway's own address.
        self.forced = said.get("NAT_DETECTION_SOURCE_IP") != self.hash_of(self.address, self.ports[0])
        check(self.forced, "the gateway says that it is behind translation")
        self.fragments = "IKEV2_FRAGMENTATION_SUPPORTED" in said and play.get("fragments", True)
        self.their_hashes = struct.unpack(f">{len(said.get('SIGNATURE_HASH_ALGORITHMS', b'')) // 2}H", said.get("SIGNATURE_HASH_ALGORITHMS", b""))
        check(bool(self.their_hashes) == bool(play.get("hashes")), "hashes are announced to whoever announces some")
        seed = c.prf(suite.prf, self.ni + self.nr, exchange.shared(by[KE][4:]))
        self.sa = Sa.derive(suite, seed, self.ni, self.nr, self.spi_i, self.spi_r, True)
        self.sa.next = 1
        self.log_keys(self.sa)
        self.port = self.ports[1]
        return {"suite": [suite.encr, suite.bits, suite.integ, suite.prf, suite.group], "events": self.events, "fragments": self.fragments}

    def log_keys(self, sa):
        """A line for whoever dissects what was captured."""
        self.ever.add((sa.spi_i, sa.spi_r))
        if self.keys_log:
            ends = ((sa.out_encr, sa.out_integ), (sa.in_encr, sa.in_integ))
            (ei, ai), (er, ar) = ends if sa.initiator else ends[::-1]
            row = [sa.spi_i.hex(), sa.spi_r.hex(), ei.hex(), er.hex(), ai.hex(), ar.hex(), sa.suite.encr, sa.suite.bits, sa.suite.integ]
            self.keys_log.write(json.dumps({"ike": row}) + "\n")
            self.keys_log.flush()

    def ask_plain(self, message):
        for attempt in range(20 if self.chance else 4):
            self.send(message)
            for data in self.datagrams(time.monotonic() + 0.6 * (attempt + 1)):
                if data is None:
                    continue
                spi_i, _, _, exchange, flags, number = self.read_head(data)
                if exchange == INIT and number == 0:
                    check(spi_i == self.spi_i and flags == RESPONSE, "it answers this opening")
                    return data
        raise Refused("no answer")

    # Encrypted exchanges.

    def messages(self, sa, exchange, flags, number, payloads):
        first, plain = chain(payloads)
        most = self.play.get("part", 1000)
        if not self.fragments or len(plain) <= most or self.play.get("whole"):
            return [sa.seal(exchange, flags, number, payloads)]
        pieces = [plain[at:at + most] for at in range(0, len(plain), most)]
        return [sa.seal(exchange, flags, number, [], (at + 1, len(pieces), first, piece)) for at, piece in enumerate(pieces)]

    def take(self, data):
        """What a message says: association, exchange, whether it answers, number, payloads; None while parts are missing."""
        spi_i, spi_r, first, exchange, flags, number = self.read_head(data)
        sa = next((one for one in [self.sa] + self.old if (one.spi_i, one.spi_r) == (spi_i, spi_r)), None)
        if sa is None and self.chance and (spi_i, spi_r) in self.ever:
            # Late, of one that is gone.
            return None
        check(sa is not None, "a message of an association that is up")
        check(bool(flags & INITIATOR) != sa.initiator, "the initiator's flag is that of who made the association")
        found, inner = unchain(first, data[28:])
        check(len(found) == 1 and found[0][0] in (SK, SKF), "everything is encrypted")
        got = sa.open(data, found[0][0], inner, found[0][1])
        if found[0][0] == SKF:
            at, total, first, plain = got
            check(1 <= at <= total, "a part has its place")
            check(self.fragments, "parts are agreed on")
            check((first == 0) == (at != 1), "the first part alone says the first payload")
            key = (sa.spi_i, flags & RESPONSE, number)
            parts = self.parts.setdefault(key, {})
            parts[at] = (first, plain)
            if len(parts) < total:
                return None
            got = unchain(parts[1][0], b"".join(parts[one][1] for one in range(1, total + 1)))[0]
            self.events.append(f"{total} parts")
            del self.parts[key]
        return sa, exchange, bool(flags & RESPONSE), number, got

    old, hold, held = [], False, []

    def request(self, exchange, payloads, sa=None):
        sa = sa or self.sa
        number = sa.next
        sa.next += 1
        messages = self.messages(sa, exchange, 0, number, payloads)
        for attempt in range(20 if self.chance else 5):
            for message in messages:
                self.send(message)
            for data in self.datagrams(time.monotonic() + (0.3 if self.chance else 0.7 * (attempt + 1))):
                if data is None:
                    continue
                taken = self.take(data)
                if taken is None:
                    continue
                by, kind, answers, got_number, payloads_ = taken
                if answers:
                    if by is sa and got_number == number:
                        check(kind == exchange, "an answer is of the exchange that asked")
                        return payloads_
                    continue
                self.answer(by, kind, got_number, payloads_)
        raise Refused("no answer")

    def answer(self, sa, exchange, number, payloads):
        """A request of the gateway's."""
        if self.hold and exchange == CREATE:
            if not self.held:
                self.held.append((sa, exchange, number, payloads))
            return
        if number in sa.answers:
            for message in sa.answers[number]:
                self.send(message)
            return
        check(number == sa.expected, f"requests are numbered without gaps: {number}, not {sa.expected}")
        sa.expected += 1
        reply, after = [], None
        if exchange == INFO:
            for kind, body in payloads:
                if kind == DELETE:
                    protocol, size, count = struct.unpack(">BBH", body[:4])
                    spis = [body[4 + size * at:4 + size * (at + 1)] for at in range(count)]
                    if protocol == 1:
                        check(size == 0 and count == 0, "the association's own deletion names no SPI")
                        self.ended = "deleted" if sa is self.sa else self.ended
                        self.events.append("ike deleted")
                    else:
                        check(protocol == 3 and size == 4, "ESP has SPIs of four bytes")
                        gone = [one for one in self.children if one.theirs in spis]
                        check(len(gone) == len(spis), "the SPIs are the gateway's own inbound ones")
                        self.children = [one for one in self.children if one not in gone]
                        reply.append(payload(DELETE, struct.pack(">BBH", 3, 4, len(gone)) + b"".join(one.ours for one in gone)))
                        self.events.append("child deleted")
                elif kind == NOTIFY:
                    name, data, _, _ = read_notify(body)
                    if name == "COOKIE2":
                        reply.append(notify("COOKIE2", data))
                    self.events.append(name)
        elif exchange == CREATE:
            reply, after = self.answer_create(sa, payloads)
        sa.answers = {number: self.messages(sa, exchange, RESPONSE, number, reply)}
        for message in sa.answers[number]:
            self.send(message)
        if after:
            after()

    def answer_create(self, sa, payloads):
        """The gateway makes new keys: of the association itself, or of a child."""
        by = {kind: body for kind, body in payloads if kind != NOTIFY}
        said = [read_notify(body) for kind, body in payloads if kind == NOTIFY]
        nonce = self.last_nonce = os.urandom(32)
        if by[SA][5] == 1:
            spi, offer = by[SA][8:16], self.offer_of(by[SA], 8)
            chosen = self.pick(offer)
            suite = c.Suite(*chosen)
            exchange = c.Exchange(suite.group)
            check(struct.unpack(">H", by[KE][:2])[0] == suite.group, "the key is of the group that is offered first")
            own = os.urandom(8)
            seed = c.prf(sa.suite.prf, sa.d, exchange.shared(by[KE][4:]) + by[NONCE] + nonce)
            new = Sa.derive(suite, seed, by[NONCE], nonce, spi, own, False)
            self.log_keys(new)

            def after():
                self.old, self.sa = [self.sa], new
                self.events.append("ike renewed by the gateway")
            return [self.chosen(1, own, suite), payload(NONCE, nonce), payload(KE, struct.pack(">HH", suite.group, 0) + exchange.public)], after
        renewed = next((spi for name, _, protocol, spi in said if name == "REKEY_SA" and protocol == 3), None)
        before = next((one for one in self.children if one.theirs == renewed), None)
        check(before is not None, "the SPI that is renewed is the one under which the gateway receives")
        offer = self.offer_of(by[SA], 4)
        suite = c.Suite(*self.pick(offer))
        own, theirs = os.urandom(4), by[SA][8:12]
        secret, reply = b"", []
        if KE in by:
            exchange = c.Exchange(suite.group)
            secret = exchange.shared(by[KE][4:])
            reply = [payload(KE, struct.pack(">HH", suite.group, 0) + exchange.public)]
        # The gateway begins this exchange: its side is the initiator's.
        child = Child.derive(suite, sa.suite.prf, sa.d, secret + by[NONCE] + nonce, own, theirs, False, read_ts(by[TSR]), read_ts(by[TSI]))
        self.check_selectors(child.tsi, child.tsr)

        def after():
            self.children.append(child)
            self.events.append("child renewed by the gateway")
        return [self.chosen(3, own, suite), payload(NONCE, nonce)] + reply + [payload(TSI, by[TSI]), payload(TSR, by[TSR])], after

    @staticmethod
    def offer_of(body, size):
        """The transforms of the first proposal."""
        length, count, rest, found = struct.unpack(">H", body[2:4])[0], body[7], body[8 + size:], []
        check(length <= len(body), "a proposal ends within its payload")
        for _ in range(count):
            _, _, length, kind, _, what = struct.unpack(">BBHBBH", rest[:8])
            found.append((kind, what, struct.unpack(">H", rest[10:12])[0] if length == 12 else None))
            rest = rest[length:]
        return found

    @staticmethod
    def pick(offer):
        first = {}
        for kind, what, bits in offer:
            first.setdefault(kind, (what, bits))
        get = lambda kind: first.get(kind, (None,))[0]
        return first[c.ENCR] + (get(c.INTEG), get(c.PRF), get(c.KE), get(c.ESN) or 0)

    @staticmethod
    def chosen(protocol, spi, suite):
        rows = [(c.ENCR, suite.encr, suite.bits)]
        rows += [(c.PRF, suite.prf)] if protocol == 1 else []
        rows += [(c.INTEG, suite.integ)] if suite.integ else []
        rows += [(c.KE, suite.group)] if suite.group else []
        rows += [(c.ESN, suite.esn)] if protocol == 3 else []
        return proposals(protocol, spi, [rows])

    # IKE_AUTH.

    def identity(self):
        kind, value = self.play["identity"]
        data = {"fqdn": (2, value.encode()), "mail": (3, value.encode()), "key": (11, value.encode()), "address": (1, None), "name": (9, None)}[kind]
        if kind == "address":
            data = (1, socket.inet_aton(value))
        if kind == "name":
            data = (9, self.certificates()[0].subject.public_bytes())
        return bytes([data[0], 0, 0, 0]) + data[1]

    def certificates(self):
        return x509.load_pem_x509_certificates(open(self.play["certificate"], "rb").read())

    def octets(self, message, nonce, key, identity):
        return message + nonce + c.prf(self.sa.suite.prf, key, identity)

    def sign(self, octets):
        key = serialization.load_pem_private_key(open(self.play["key"], "rb").read(), None)
        how = self.play.get("sign", "7427")
        if isinstance(key, ed25519.Ed25519PrivateKey):
            return bytes([14, 0, 0, 0, len(OIDS["ed25519"])]) + OIDS["ed25519"] + key.sign(octets)
        if isinstance(key, ec.EllipticCurvePrivateKey):
            small = key.curve.key_size == 256
            hash_, size = (hashes.SHA256(), 32) if small else (hashes.SHA384(), 48)
            made = key.sign(octets, ec.ECDSA(hash_))
            if how == "4754":
                r, s = decode_dss_signature(made)
                return bytes([9 if small else 10, 0, 0, 0]) + r.to_bytes(size, "big") + s.to_bytes(size, "big")
            oid = OIDS["ecdsa-sha256" if small else "ecdsa-sha384"]
            return bytes([14, 0, 0, 0, len(oid)]) + oid + made
        if how == "pss":
            oid, pad = OIDS["rsapss-sha256"], padding.PSS(padding.MGF1(hashes.SHA256()), 32)
            return bytes([14, 0, 0, 0, len(oid)]) + oid + key.sign(octets, pad, hashes.SHA256())
        if how in ("rsa", "rsa-sha1"):
            return bytes([1, 0, 0, 0]) + key.sign(octets, padding.PKCS1v15(), hashes.SHA1() if how == "rsa-sha1" else hashes.SHA256())
        return bytes([14, 0, 0, 0, len(OIDS["rsa-sha256"])]) + OIDS["rsa-sha256"] + key.sign(octets, padding.PKCS1v15(), hashes.SHA256())

    def judge(self, body, certificates, octets):
        """The gateway's proof: by a method that this device takes, over the right octets, with the key of its certificate."""
        method, value, key = body[0], body[4:], certificates[0].public_key()
        check(body[1:4] == bytes(3), "reserved bytes are zero")
        small = isinstance(key, ec.EllipticCurvePublicKey) and key.curve.key_size == 256
        if method == 14:
            check(self.play.get("hashes"), "a digital signature only to whoever announces hashes (RFC 7427 section 4)")
            name, value = value[1:1 + value[0]], value[1 + value[0]:]
            which = next((which for which, oid in OIDS.items() if oid == name), None)
            check(which is not None, f"an algorithm of RFC 7427: {name.hex()}")
            needed = {"sha256": 2, "sha384": 3, "sha512": 4, "ed25519": 5}[which.split("-")[-1]]
            check(needed in self.play["hashes"], "by a hash that was announced")
            made = {"sha256": hashes.SHA256(), "sha384": hashes.SHA384(), "sha512": hashes.SHA512()}.get(which.split("-")[-1])
            if which == "ed25519":
                key.verify(value, octets)
            elif which.startswith("ecdsa"):
                key.verify(value, octets, ec.ECDSA(made))
            elif which.startswith("rsapss"):
                key.verify(value, octets, padding.PSS(padding.MGF1(made), 32), made)
            else:
                key.verify(value, octets, padding.PKCS1v15(), made)
            return which
        if method in (9, 10):
            size, made = (32, hashes.SHA256()) if method == 9 else (48, hashes.SHA384())
            check(small == (method == 9) and len(value) == 2 * size, "method, curve and length agree (RFC 4754)")
            numbers = [int.from_bytes(part, "big") for part in (value[:size], value[size:])]
            key.verify(encode_dss_signature(*numbers), octets, ec.ECDSA(made))
            return f"method {method}"
        check(method == 1, f"a method that is known: {method}")
        sha1 = self.play.get("sha1")
        made = hashes.SHA1() if sha1 else hashes.SHA256()
        key.verify(value, octets, padding.PKCS1v15(), made)
        return "method 1"

    def trust(self, chain_):
        """The gateway's certificate by the authority that the handover brought, with the name that is dialled (RFC 4945 section 5.1)."""
        roots = x509.load_pem_x509_certificates(open(self.play["authority"], "rb").read())
        known = {one.subject: one for one in chain_[1:]}
        known.update({one.subject: one for one in roots})
        one = chain_[0]
        for _ in range(5):
            above = known.get(one.issuer)
            check(above is not None, f"somebody known signed {one.subject.rfc4514_string()}")
            one.verify_directly_issued_by(above)
            if above in roots:
                break
            one = above
        else:
            raise AssertionError("the chain has an end")
        names = chain_[0].extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        texts = [str(name.value) for name in names]
        check(self.play["dialled"] in texts, f"the name that is dialled is among {texts}")
        use = chain_[0].extensions.get_extension_for_class(x509.ExtendedKeyUsage).value
        check(any(oid.dotted_string in ("1.3.6.1.5.5.7.3.1", "1.3.6.1.5.5.7.3.17") for oid in use), "for servers, or for IKE")

    def auth(self):
        play = self.play
        eap = play.get("eap")
        identity = self.identity()
        spi = os.urandom(4)
        offers = [[tuple(one) for one in offer] for offer in play["esp"]]
        payloads = [payload(IDI, identity)]
        if not eap and not play.get("no_certificate"):
            from cryptography.hazmat.primitives.serialization import Encoding
            for one in self.certificates()[: play.get("certificates", 9)]:
                payloads.append(payload(CERT, b"\x04" + one.public_bytes(Encoding.DER)))
        if not play.get("no_initial_contact"):
            payloads.append(notify("INITIAL_CONTACT"))
        roots = x509.load_pem_x509_certificates(open(play["authority"], "rb").read())
        keys = [one.public_key().public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo) for one in roots]
        asked = b"".join(hashlib.sha1(key).digest() for key in keys) + os.urandom(20 * play.get("other_authorities", 0))
        payloads.append(payload(CERTREQ, b"\x04" + asked))
        if play.get("idr", True):
            payloads.append(payload(IDR, bytes([2, 0, 0, 0]) + play["dialled"].encode()) if not play["dialled"][0].isdigit()
                            else payload(IDR, bytes([1, 0, 0, 0]) + socket.inet_aton(play["dialled"])))
        if not eap:
            mine = self.octets(self.request_init, self.nr, self.sa.pi, identity)
            proof = self.sign(mine)
            if play.get("break_proof"):
                proof = proof[:-1] + bytes([proof[-1] ^ 1])
            payloads.append(payload(AUTH, proof))
        attributes = b"".join(struct.pack(">HH", kind, 0) for kind in play.get("attributes", [IP4, DNS4, IP6, DNS6, DOMAIN]))
        payloads.append(payload(CP, bytes([1, 0, 0, 0]) + attributes))
        if play.get("mobike", True):
            payloads.append(notify("MOBIKE_SUPPORTED"))
        payloads += [notify("ESP_TFC_PADDING_NOT_SUPPORTED"), notify("NON_FIRST_FRAGMENTS_ALSO")]
        payloads += [proposals(3, spi, offers), ts_payload(TSI, ALL_TS), ts_payload(TSR, ALL_TS)]
        found = self.request(AUTH_EXCHANGE, payloads)
        certificates, said = [], {}
        first = {kind: body for kind, body in found}
        if IDR in first:
            certificates = [x509.load_der_x509_certificate(body[1:]) for kind, body in found if kind == CERT]
            check(all(body[0] == 4 for kind, body in found if kind == CERT), "certificates are X.509 (encoding 4)")
            self.refuse(found)
            self.trust(certificates)
            theirs = self.octets(self.answer_init, self.ni, self.sa.pr, first[IDR])
            check(first[IDR][1:4] == bytes(3), "reserved bytes are zero")
            self.proof = self.judge(first[AUTH], certificates, theirs)
        else:
            self.refuse(found)
        check(certificates, "the gateway shows its certificate")
        if eap:
            check(EAP in first, "EAP begins")
            msk, found = self.talk_eap(first[EAP])
            first_ = {kind: body for kind, body in found}
            self.refuse(found)
            key = c.prf(self.sa.suite.prf, msk, b"Key Pad for IKEv2")
            octets = self.octets(self.request_init, self.nr, self.sa.pi, identity)
            if AUTH not in first_:
                found = self.request(AUTH_EXCHANGE, [payload(AUTH, bytes([2, 0, 0, 0]) + c.prf(self.sa.suite.prf, key, octets))])
                self.refuse(found)
            last = {kind: body for kind, body in found}
            wanted = c.prf(self.sa.suite.prf, key, self.octets(self.answer_init, self.ni, self.sa.pr, first[IDR]))
            check(last[AUTH] == bytes([2, 0, 0, 0]) + wanted, "the gateway proves the key of EAP (RFC 7296 section 2.16)")
        by = {kind: body for kind, body in found if kind != NOTIFY}
        said = {read_notify(body)[0]: read_notify(body)[1] for kind, body in found if kind == NOTIFY}
        self.mobike = "MOBIKE_SUPPORTED" in said
        lifetime = said.get("AUTH_LIFETIME")
        check(lifetime is None or len(lifetime) == 4, "a lifetime is four bytes (RFC 4478 section 3)")
        lifetime = lifetime and struct.unpack(">I", lifetime)[0]
        self.take_settings(by)
        suite, theirs = read_chosen(by[SA], 3, offers, 4)
        check(suite.group is None, "the first child has no exchange of its own")
        tsi, tsr = read_ts(by[TSI]), read_ts(by[TSR])
        self.check_selectors(tsi, tsr)
        child = Child.derive(suite, self.sa.suite.prf, self.sa.d, self.ni + self.nr, spi, theirs, True, tsi, tsr)
        self.children = [child]
        ranges = lambda ts: [f"{text(first)}-{text(last)}" for _, first, last in ts]
        return {"inner": [text(one) for one in self.addresses], "resolvers": self.resolvers, "domains": self.domains, "proof": self.proof,
                "esp": [suite.encr, suite.bits, suite.integ, suite.esn], "tsi": ranges(tsi), "tsr": ranges(tsr), "mobike": self.mobike,
                "chain": len(certificates), "lifetime": lifetime, "events": self.events}

    def refuse(self, found):
        for kind, body in found:
            if kind == NOTIFY:
                name, data, _, _ = read_notify(body)
                if N.get(name, 99) < 16384 or name.isdigit() and int(name) < 16384:
                    raise Refused(name)
            if kind == EAP and body[0] == 4:
                raise Refused("EAP failure")

    def take_settings(self, by):
        check(by[CP][:4] == bytes([2, 0, 0, 0]), "a configuration is answered with CFG_REPLY")
        rest = by[CP][4:]
        asked = self.play.get("attributes", [IP4, DNS4, IP6, DNS6, DOMAIN])
        while rest:
            kind, length = struct.unpack(">HH", rest[:4])
            value, rest = rest[4:4 + length], rest[4 + length:]
            check(kind & 0x8000 == 0, "the reserved bit is zero")
            check(kind in asked or kind == NETMASK, f"attribute {kind} was asked for")
            if kind == IP4:
                check(length == 4, "an IPv4 address")
                self.addresses.append(value)
            elif kind == IP6:
                check(length == 17 and value[16] <= 128, "an IPv6 address with its prefix length")
                self.addresses.append(value[:16])
            elif kind in (DNS4, DNS6):
                self.resolvers.append(text(value))
            elif kind == DOMAIN:
                self.domains.append(value.decode())
        check(self.addresses, "an inner address was given")

    def check_selectors(self, tsi, tsr):
        own = {first for _, first, last in tsi if first == last}
        check(own == set(self.addresses) and len(tsi) == len(self.addresses), "the device's selectors are its inner addresses")
        check(tsr, "there is something to reach")

    # EAP (RFC 3748), method 26.

    def talk_eap(self, body):
        eap, msk, name, password = self.play["eap"], None, self.play["eap"]["name"], self.play["eap"]["password"]
        for _ in range(10):
            code, number, length = struct.unpack(">BBH", body[:4])
            check(length == len(body), "EAP says its own length")
            if code == 3:
                check(msk, "success comes after the method has ended")
                return msk, []
            if code == 4:
                raise Refused("EAP failure")
            check(code == 1, "a gateway asks")
            kind, data = body[4], body[5:]
            if kind == 1:
                reply = bytes([1]) + name.encode()
            elif kind == 26 and data[0] == 1:
                challenge = data[5:21]
                check(struct.unpack(">H", data[2:4])[0] == len(data) and data[4] == 16, "the challenge says its length (16 bytes)")
                peer = os.urandom(16)
                response = c.nt_response(challenge, peer, name, password)
                made = peer + bytes(8) + response + b"\0"
                reply = bytes([26, 2, data[1]]) + struct.pack(">HB", 5 + len(made) + len(name.encode()), len(made)) + made + name.encode()
            elif kind == 26 and data[0] == 3:
                said = data[4:].decode()
                wanted = c.authenticator_response(password, response, peer, challenge, name)
                check(said.split(" M=")[0] == wanted, "the gateway knows the password as well")
                msk = c.chap_msk(password, response)
                reply = bytes([26, 3])
            elif kind == 26 and data[0] == 4:
                self.events.append(data[4:].decode())
                reply = bytes([26, 4])
            else:
                reply = bytes([3, 26])
            message = struct.pack(">BBH", 2, number, 4 + len(reply)) + reply
            found = self.request(AUTH_EXCHANGE, [payload(EAP, message)])
            by = {kind: body for kind, body in found}
            if EAP not in by:
                self.refuse(found)
                return msk, found
            body = by[EAP]
        raise AssertionError("EAP has an end")

    # What goes through.

    def packets(self, wait):
        until = time.monotonic() + wait
        while True:
            while self.esp:
                data = self.esp.pop(0)
                child = next((one for one in self.children if one.ours == data[:4]), None)
                if data == b"\xff":
                    continue
                check(child is not None, f"ESP of an association that is up: {data[:4].hex()}")
                yield child.open(data)
            left = until - time.monotonic()
            if left <= 0:
                return
            for data in self.datagrams(min(until, time.monotonic() + left)):
                if data is None:
                    break
                taken = self.take(data)
                if taken and not taken[2]:
                    self.answer(taken[0], taken[1], taken[3], taken[4])
                if self.ended:
                    return

    def step_echo(self, destination, size=56, child=-1, replay=False, source=None, tos=0, outer=0, again=3):
        target = socket.inet_pton(socket.AF_INET6 if ":" in destination else socket.AF_INET, destination)
        own = socket.inet_aton(source) if source else next(one for one in self.addresses if len(one) == len(target))
        for attempt in range(again):
            self.number = getattr(self, "number", 0) + 1
            datagram = self.children[child].seal(echo(own, target, self.number, size, tos))
            self.socket.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, outer)
            for _ in range(2 if replay else 1):
                self.socket.sendto(datagram, (self.address, self.ports[1]))
            self.socket.setsockopt(socket.IPPROTO_IP, socket.IP_TOS, 0)
            answers = []
            for packet in self.packets(1.0 if replay else 0.8):
                if len(target) == 4:
                    check(checksum(packet[:20]) == 0, "the inner header's checksum")
                    ends, kind, number, data, own_tos = (packet[12:16], packet[16:20]), packet[20], packet[26:28], packet[28:], packet[1]
                else:
                    ends, kind, number, data = (packet[8:24], packet[24:40]), packet[40], packet[46:48], packet[48:]
                    own_tos = struct.unpack(">H", packet[:2])[0] >> 4 & 0xFF
                if kind in (0, 129) and number == struct.pack(">H", self.number):
                    check(ends == (target, own) and data == bytes(i & 0xFF for i in range(size)), "the answer is the question's")
                    answers.append(len(packet))
                    marks = {"tos": own_tos, "outer": self.outer}
                    if not replay:
                        break
            if answers:
                return {"answers": len(answers), "bytes": answers[0], **(marks if tos or outer else {})}
        return {"answers": 0}

    def step_rekey_child(self, group=None, keep=False):
        before = self.children[-1]
        spi, nonce = os.urandom(4), os.urandom(32)
        offers = [[tuple(one) for one in offer] for offer in self.play["esp"]]
        payloads = [notify("REKEY_SA", protocol=3, spi=before.ours)]
        exchange = None
        if group:
            offers = [offer + [(c.KE, group)] for offer in offers]
            exchange = c.Exchange(group)
        payloads += [proposals(3, spi, offers), payload(NONCE, nonce)]
        payloads += [payload(KE, struct.pack(">HH", group, 0) + exchange.public)] if group else []
        wide = lambda ts: [(kind, first, last) for kind, first, last in ts]
        payloads += [ts_payload(TSI, wide(before.tsi)), ts_payload(TSR, wide(before.tsr))]
        found = self.request(CREATE, payloads)
        self.refuse(found)
        by = {kind: body for kind, body in found if kind != NOTIFY}
        suite, theirs = read_chosen(by[SA], 3, offers, 4)
        secret = exchange.shared(by[KE][4:]) if group else b""
        check(bool(group) == (KE in by), "an exchange is answered with one")
        tsi, tsr = read_ts(by[TSI]), read_ts(by[TSR])
        self.check_selectors(tsi, tsr)
        check(tsr == before.tsr, "a renewal reaches as far as before")
        new = Child.derive(suite, self.sa.suite.prf, self.sa.d, secret + nonce + by[NONCE], spi, theirs, True, tsi, tsr)
        self.children.append(new)
        if not keep:
            # Packets under both: the gateway takes the old ones until they are deleted.
            self.step_delete_child(-2)
        return {"children": len(self.children)}

    def step_cross(self, kind, seconds=30):
        """Waits until the gateway makes new keys and does the same at once: two exchanges cross (RFC 7296 sections 2.8.1 and 2.8.2)."""
        until = time.monotonic() + seconds
        self.held = []
        self.hold = True
        while not self.held and time.monotonic() < until:
            for _ in self.packets(0.2):
                pass
        self.hold = False
        check(self.held, f"the gateway makes new keys within {seconds} s")
        sa, exchange, number, payloads = self.held[0]
        theirs = dict(payloads)
        check((theirs[SA][5] == 1) == (kind == "ike"), "of what is waited for")
        own_nonce = os.urandom(32)
        before_child = None if kind == "ike" else next(one for one in self.children for n in [read_notify(b) for k, b in payloads if k == NOTIFY]
                                                       if n[0] == "REKEY_SA" and one.theirs == n[3])
        # This end's request goes out before the gateway's is answered.
        spi = os.urandom(8 if kind == "ike" else 4)
        offers = [[tuple(one) for one in offer] for offer in self.play["ike" if kind == "ike" else "esp"]]
        exchange_ = c.Exchange(sa.suite.group) if kind == "ike" else None
        if kind == "ike":
            asked = [proposals(1, spi, offers), payload(NONCE, own_nonce), payload(KE, struct.pack(">HH", sa.suite.group, 0) + exchange_.public)]
        else:
            asked = [notify("REKEY_SA", protocol=3, spi=before_child.ours), proposals(3, spi, offers), payload(NONCE, own_nonce),
                     ts_payload(TSI, before_child.tsi), ts_payload(TSR, before_child.tsr)]
        number_ours = sa.next
        sa.next += 1
        for message in self.messages(sa, CREATE, 0, number_ours, asked):
            self.send(message)
        # Now theirs is answered; the nonce of that answer is remembered.
        count = len(self.children)
        self.answer(sa, exchange, number, payloads)
        their_new = self.children[-1] if kind == "child" else self.sa
        check(len(self.children) == count + (kind == "child"), "theirs is made")
        lowest_theirs = min(theirs[NONCE], self.last_nonce)
        answer = None
        until = time.monotonic() + 5
        while answer is None and time.monotonic() < until:
            for data in self.datagrams(time.monotonic() + 0.5):
                if data is None:
                    continue
                taken = self.take(data)
                if taken and taken[2] and taken[0] is sa and taken[3] == number_ours:
                    answer = dict(taken[4])
                    break
                if taken and not taken[2]:
                    self.answer(taken[0], taken[1], taken[3], taken[4])
        check(answer is not None and SA in answer, "a crossing renewal is answered as well")
        lowest_ours = min(own_nonce, answer[NONCE])
        wins = lowest_ours > lowest_theirs
        suite, their_spi = read_chosen(answer[SA], 1 if kind == "ike" else 3, offers, len(spi))
        if kind == "child":
            ours = Child.derive(suite, sa.suite.prf, sa.d, own_nonce + answer[NONCE], spi, their_spi, True, read_ts(answer[TSI]), read_ts(answer[TSR]))
            if wins:
                # The gateway deletes its own; this end deletes the one before.
                self.children.append(ours)
                self.step_delete_child(self.children.index(before_child))
                self.step_wait(5, "child deleted")
            else:
                # The one with the lowest nonce goes, by whoever began it: this end's.
                self.children.append(ours)
                self.step_delete_child(self.children.index(ours))
                self.step_wait(5, "child deleted")
            check(self.children == [ours if wins else their_new], "one pair is left")
            return {"wins": wins}
        seed = c.prf(sa.suite.prf, sa.d, exchange_.shared(answer[KE][4:]) + own_nonce + answer[NONCE])
        ours = Sa.derive(suite, seed, own_nonce, answer[NONCE], spi, their_spi, True)
        self.log_keys(ours)
        loser, self.sa = (their_new, ours) if wins else (ours, their_new)
        self.old = [sa, loser]
        gone = [sa] if wins else [ours]
        for one in gone:
            check(self.request(INFO, [payload(DELETE, struct.pack(">BBH", 1, 0, 0))], one) == [], "a deletion is answered with nothing")
        self.step_wait(5, "ike deleted")
        self.old = []
        return {"wins": wins}

    def step_delete_child(self, at=-1):
        gone = self.children.pop(at)
        found = self.request(INFO, [payload(DELETE, struct.pack(">BBH", 3, 4, 1) + gone.ours)])
        deleted = [body for kind, body in found if kind == DELETE]
        check(deleted == [struct.pack(">BBH", 3, 4, 1) + gone.theirs], "the other half is deleted in the answer (RFC 7296 section 1.4.1)")
        return {"children": len(self.children)}

    def step_rekey_ike(self, group=None, keep=False):
        before = self.sa
        group = group or before.suite.group
        spi, nonce, exchange = os.urandom(8), os.urandom(32), c.Exchange(group)
        offers = [[tuple(one) for one in offer] for offer in self.play["ike"]]
        found = self.request(CREATE, [proposals(1, spi, offers), payload(NONCE, nonce), payload(KE, struct.pack(">HH", group, 0) + exchange.public)])
        self.refuse(found)
        by = {kind: body for kind, body in found if kind != NOTIFY}
        suite, theirs = read_chosen(by[SA], 1, offers, 8)
        seed = c.prf(before.suite.prf, before.d, exchange.shared(by[KE][4:]) + nonce + by[NONCE])
        new = Sa.derive(suite, seed, nonce, by[NONCE], spi, theirs, True)
        self.log_keys(new)
        self.old, self.sa = [before], new
        if not keep:
            found = self.request(INFO, [payload(DELETE, struct.pack(">BBH", 1, 0, 0))], before)
            check(found == [], "a deletion of the association is answered with nothing")
            self.old = []
        return {"suite": [suite.encr, suite.bits, suite.integ, suite.prf, suite.group]}

    def step_live(self):
        check(self.request(INFO, []) == [], "a question for a sign of life is answered with nothing")
        return {}

    def step_wait(self, seconds, want=None):
        until = time.monotonic() + seconds
        while time.monotonic() < until and not (want and want in self.events) and not self.ended:
            for _ in self.packets(min(0.3, until - time.monotonic())):
                pass
        check(not want or want in self.events or want == self.ended, f"{want} within {seconds} s, not {self.events} {self.ended}")
        return {"events": self.events, "ended": self.ended}

    def step_until(self, path):
        """Answers what comes until somebody has made the file; at most a minute."""
        end = time.monotonic() + 60
        while not os.path.exists(path):
            check(time.monotonic() < end, "the file is made")
            self.step_wait(0.2)
        return {}

    def step_move(self):
        """Another address and port outside (RFC 4555)."""
        check(self.mobike, "MOBIKE is agreed on")
        self.socket.close()
        self.bind()
        local = self.socket.getsockname()[1]
        self.spi_i, self.spi_r = self.sa.spi_i, self.sa.spi_r
        found = self.request(INFO, [notify("UPDATE_SA_ADDRESSES"), notify("NAT_DETECTION_SOURCE_IP", self.hash_of("0.0.0.0", local)),
                                    notify("NAT_DETECTION_DESTINATION_IP", self.hash_of(self.address, self.ports[1]))])
        self.refuse(found)
        said = {read_notify(body)[0] for kind, body in found if kind == NOTIFY}
        check({"NAT_DETECTION_SOURCE_IP", "NAT_DETECTION_DESTINATION_IP"} <= said, "NAT detection is answered")
        return {}

    def step_roam(self):
        """Translation gives another port: nothing is said, packets come from elsewhere (RFC 7296 section 2.23)."""
        self.socket.close()
        self.bind()
        return {}

    def silence(self, seconds, what):
        """Nothing is answered, and nothing asked."""
        for data in self.datagrams(time.monotonic() + seconds):
            if data is not None:
                taken = self.take(data)
                check(taken is None or not taken[2], f"{what} is not answered")

    def step_hostile(self):
        """What a device that is in may say, and what comes of it: nothing."""
        sa = self.sa
        for far in (7, 1000, 0x80000000, 0xFFFFFF00):
            self.send(sa.seal(INFO, 0, (sa.next + far) & 0xFFFFFFFF, []))
        self.silence(0.4, "a number that jumps")
        # An answer to what was never asked, and a question under the other end's flag.
        self.send(sa.seal(INFO, RESPONSE, 5, []))
        sa.initiator = not sa.initiator
        self.send(sa.seal(INFO, 0, sa.next, []))
        sa.initiator = not sa.initiator
        # Parts with gaps, twice, beyond their number, of nothing, and far too many.
        for part in [(2, 3), (2, 3), (3, 3), (0, 3), (4, 3), (1, 0)]:
            self.send(sa.seal(INFO, 0, sa.next, [], (*part, NOTIFY, bytes(200))))
        for number in range(1, 1000):
            self.send(sa.seal(INFO, 0, sa.next, [], (number, 65535, NOTIFY, bytes(600))))
        self.silence(0.4, "a part of what never is whole")
        altered = bytearray(sa.seal(INFO, 0, sa.next, []))
        altered[-1] ^= 1
        self.send(bytes(altered))
        self.silence(0.3, "what was altered")
        check(self.request(INFO, []) == [], "and then it goes on")
        # What is not its own is not deleted, and what cannot be read is said to be so.
        found = self.request(INFO, [payload(DELETE, struct.pack(">BBH", 3, 4, 2) + os.urandom(8))])
        check(not any(kind == DELETE for kind, _ in found), "nobody else's pair is deleted")
        said = [read_notify(body)[0] for kind, body in self.request(INFO, [payload(200, b"?", critical=True)]) if kind == NOTIFY]
        check(said == ["UNSUPPORTED_CRITICAL_PAYLOAD"], f"what must be understood is not, and is named: {said}")
        for payloads in ([payload(SA, b"?")], [payload(NONCE, bytes(32))], [proposals(3, os.urandom(4), [[(c.ENCR, c.DES3), (c.ESN, 0)]]), payload(NONCE, bytes(32)),
                         ts_payload(TSI, ALL_TS), ts_payload(TSR, ALL_TS)]):
            said = [read_notify(body)[0] for kind, body in self.request(CREATE, payloads) if kind == NOTIFY]
            check(said in (["INVALID_SYNTAX"], ["NO_PROPOSAL_CHOSEN"]), f"it is refused: {said}")
        # Pairs beyond number; each one more than there may be is refused.
        offers = [[tuple(one) for one in offer] for offer in self.play["esp"]]
        answers = []
        for _ in range(6):
            found = self.request(CREATE, [proposals(3, os.urandom(4), offers), payload(NONCE, os.urandom(32)), ts_payload(TSI, ALL_TS), ts_payload(TSR, ALL_TS)])
            answers.append(next((read_notify(body)[0] for kind, body in found if kind == NOTIFY), "made"))
        check(answers == ["made"] * 3 + ["NO_ADDITIONAL_SAS"] * 3, f"{answers}")
        return {}

    def step_huge(self):
        """A certificate of a megabyte, in parts, from somebody who has shown nothing."""
        sa = self.sa
        sa.next = 1
        plain = chain([payload(IDI, self.identity())])[1] + bytes(1 << 20)
        pieces = [plain[at:at + 1100] for at in range(0, len(plain), 1100)]
        for at, piece in enumerate(pieces):
            self.send(sa.seal(AUTH_EXCHANGE, 0, 1, [], (at + 1, len(pieces), IDI, piece)))
        self.silence(0.5, "a certificate of a megabyte")
        return {"parts": len(pieces)}

    def step_lost(self):
        """The gateway has begun anew: what it does not know it says so of, in clear, to this very question."""
        number = self.sa.next
        message = self.sa.seal(INFO, 0, number, [])
        for _ in range(20):
            self.send(message)
            for data in self.datagrams(time.monotonic() + 0.5):
                if data is None:
                    continue
                spi_i, spi_r, first, exchange, flags, got = self.read_head(data)
                check((spi_i, spi_r, exchange, flags, got) == (self.sa.spi_i, self.sa.spi_r, INFO, RESPONSE, number), "it is about this question")
                found = unchain(first, data[28:])[0]
                check([read_notify(body)[0] for kind, body in found] == ["INVALID_IKE_SPI"], "and says that there is no such association")
                self.children, self.addresses, self.resolvers, self.domains = [], [], [], []
                return {}
        raise Refused("no answer")

    def step_keepalive(self):
        self.socket.sendto(b"\xff", (self.address, self.ports[1]))
        return {}

    def step_out(self):
        check(self.request(INFO, [payload(DELETE, struct.pack(">BBH", 1, 0, 0))]) == [], "a goodbye is answered with nothing")
        return {}

    def step_in(self):
        return {"init": self.init(), "auth": self.auth()}

    def step_init(self):
        return self.init()

    def step_raw(self, hex):
        """Bytes as they are, and whether anything is answered."""
        self.port = self.ports[0]
        self.socket.sendto(bytes.fromhex(hex), (self.address, self.port))
        return {"answers": [data.hex() for data in self.datagrams(time.monotonic() + 0.5) if data]}

    def run(self):
        for name, *words in self.play["steps"]:
            options = words.pop() if words and isinstance(words[-1], dict) else {}
            try:
                said = {"step": name, **getattr(self, "step_" + name.replace("-", "_"))(*words, **options)}
            except Refused as refused:
                said = {"step": name, "refused": str(refused), "events": self.events}
            except AssertionError as wrong:
                said = {"step": name, "error": str(wrong) or repr(wrong), "events": self.events}
            print(json.dumps(said), flush=True)
            if "error" in said:
                sys.exit(1)
            if "refused" in said:
                return


if __name__ == "__main__":
    Device(json.load(open(sys.argv[1]))).run()

"""Opening doors, sharing a pace with the kernel, and recording: real sockets on loopback."""

import asyncio
import os
import socket
import ssl
import threading
import time
from contextlib import closing
from functools import partial
from importlib.resources import as_file, files
from ipaddress import IPv4Address, IPv4Interface

import pytest

from portcall.core.address import Mac
from portcall.core.find import cip_identity, web_page
from portcall.core.find.cip_identity import IdentityByAddress
from portcall.core.find.device import MANY_ADDRESSES
from portcall.core.find.devices import merge
from portcall.core.find.outlook import Outlook
from portcall.core.find.remarks import remarks
from portcall.core.find.sighting import Field, Method, Sighting, sighting_of
from portcall.core.plan.rows import Plan
from portcall.core.talk.ask_each import AskEach
from portcall.core.talk.conversation import Conversation, Datagram, Endpoint, Send
from portcall.core.talk.pacer import Pace, Pacer
from portcall.core.trouble import BadInput, NotPossibleHere
from portcall.core.wire import cip, pcapng
from portcall.host.datagrams import Datagrams
from portcall.host.filters import NO_CONVERSATIONS
from portcall.host.link import Link
from portcall.host.pace import paced
from portcall.host.recorder import Recorder
from portcall.host.runner import Runner
from portcall.host.vantage import Vantage
from portcall.jobs.look.converse import Talk, converse
from portcall.jobs.look.findings import Findings, Orders
from portcall.site.captures import CaptureFile, read_capture

HERE = IPv4Address("127.0.0.1")
LOOPBACK = Vantage("lo", IPv4Interface("127.0.0.1/8"))
IDENTITY = cip.encode_identity(
    cip.Identity(HERE, 44818, 64101, 0x0E, 40, 20, 13, 0, 7, b"Skerry 40", 3), bytes(8)
)
raw = pytest.mark.skipif(os.geteuid() != 0, reason="raw Ethernet needs root")


def served(talk, secure=None, times=1):
    """A TCP port on loopback; ``talk`` is given a connection, and how it ended is noted."""
    listening = socket.create_server(("127.0.0.1", 0))
    ends = []

    def serve():
        with listening:
            for _ in range(times):
                serve_one(listening.accept()[0])

    def serve_one(connection):
        try:
            if secure is not None:
                connection = secure.wrap_socket(connection, server_side=True)
            talk(connection)
            ends.append(connection.recv(1000))
        except OSError as error:
            ends.append(error)
        finally:
            connection.close()

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    return listening.getsockname()[1], thread, ends


def ask(port, script, secure=False, method=Method.CIP):
    """Whether the port opened, whether the device answered at all, and what it said."""
    seen, opened = [], []

    def talk(door):
        opened.append(door.port)
        return Talk(method, (script,), secure)

    answered = asyncio.run(converse(Runner(), LOOPBACK, {HERE: (port,)}, talk, seen.append))
    said = {each.field: each.value for one in seen for each in one.said}
    return opened == [port], HERE in answered, said


def test_a_door_that_is_open_is_asked_and_closed_properly():
    def talk(connection):
        connection.recv(1000)
        # More than was asked for: what stays unread must not make the end a reset.
        connection.sendall(IDENTITY + b"x" * 5000)

    port, thread, ends = served(talk)
    opened, _, said = ask(port, cip_identity.script)
    thread.join(5)
    assert opened
    assert said[Field.PRODUCT] == "Skerry 40"
    assert ends == [b""]


def test_a_door_that_is_closed_and_one_that_stays_silent():
    with socket.create_server(("127.0.0.1", 0)) as free:
        closed = free.getsockname()[1]
    assert ask(closed, cip_identity.script) == (False, True, {})
    # A full backlog drops further SYNs, as a filter does.
    with socket.socket() as full, socket.socket() as one, socket.socket() as two:
        full.bind(("127.0.0.1", 0))
        full.listen(0)
        for each in (one, two):
            each.setblocking(False)
            each.connect_ex(full.getsockname())
        began = time.monotonic()
        assert ask(full.getsockname()[1], cip_identity.script) == (False, False, {})
        assert time.monotonic() - began < 2


def test_a_page_behind_tls_with_a_certificate_of_its_own():
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with as_file(files("portcall.plant") / "scenarios" / "device.pem") as path:
        context.load_cert_chain(path)

    def talk(connection):
        connection.recv(1000)
        connection.sendall(b"HTTP/1.0 200 OK\r\n\r\n<title>Reach 8</title>")
        connection.close()

    port, _, _ = served(talk, context)

    def script():
        return web_page.script(HERE, port, True)

    opened, _, said = ask(port, script, secure=True, method=Method.WEB)
    assert opened
    assert said[Field.DESCRIPTION] == f'https at port {port} page "Reach 8"'
    # What speaks no TLS is an open door all the same.
    port, _, _ = served(lambda connection: connection.sendall(b"220 ready\r\n"))
    opened, answered, said = ask(port, script, secure=True)
    sentence = f"TLS at port {port} does not come about: what answers is not TLS"
    assert (opened, answered, said) == (True, True, {Field.MANNER: sentence})


def test_a_page_at_another_port_of_the_device_is_asked_for_and_no_other_host():
    def page(head, body=b""):
        def talk(connection):
            connection.recv(1000)
            connection.sendall(b"HTTP/1.1 " + head + b"\r\nConnection: close\r\n\r\n" + body)
            connection.close()

        return talk

    last, _, _ = served(page(b"200 OK", b"<title>Gale 7</title>"), times=2)
    onward = f"307 Moved\r\nLocation: http://127.0.0.1:{last}/gale".encode()
    middle, _, _ = served(page(onward, b"<title>307 Moved</title>"), times=2)
    # A relative redirect, and the connection is closed.
    asked = []

    def first(connection):
        asked.append(connection.recv(1000).split(b" ")[1])
        where = "there" if len(asked) == 1 else f"//127.0.0.1:{middle}/"
        head = f"HTTP/1.0 302 Found\r\nLocation: {where}\r\n\r\n"
        connection.sendall(head.encode())
        connection.close()

    port, _, _ = served(first, times=2)
    _, _, said = ask(port, lambda: web_page.script(HERE, port, False), method=Method.WEB)
    assert asked == [b"/", b"/there"]
    told_last = f'http at port {last} page "Gale 7"'
    assert said[Field.DESCRIPTION] == told_last
    # One that sends on, to one that sends on: the last one is the device's.
    port, _, _ = served(page(f"302 Found\r\nLocation: http://127.0.0.1:{middle}/".encode()))
    script = partial(web_page.script, HERE, port, False)
    assert ask(port, script, method=Method.WEB)[2][Field.DESCRIPTION] == told_last
    # Nobody is there, or it is not this device: what was said stays said.
    (gone,) = closed_ports(1)
    for location in (f"http://127.0.0.1:{gone}/", f"http://127.0.0.2:{last}/"):
        talk = page(f"301 Moved\r\nLocation: {location}".encode(), b"<title>301 Moved</title>")
        port, _, _ = served(talk)
        script = partial(web_page.script, HERE, port, False)
        _, _, said = ask(port, script, method=Method.WEB)
        expected = f"http at port {port} answers 301, sends on to {location}"
        assert said[Field.DESCRIPTION] == expected


def closed_ports(count):
    """Ports of loopback where nobody listens."""
    sockets = [socket.create_server(("127.0.0.1", 0)) for _ in range(count)]
    ports = [each.getsockname()[1] for each in sockets]
    for each in sockets:
        each.close()
    return ports


def test_connections_and_datagrams_leave_at_one_pace():
    async def go():
        runner = Runner(Pacer(100, burst=1))
        question = IdentityByAddress()
        question.port = closed_ports(1)[0]
        others = [IPv4Address(f"127.0.0.{n}") for n in range(1, 11)]
        began = time.monotonic()
        with closing(Datagrams.at(LOOPBACK)) as medium:
            end = runner.start(
                AskEach(question, others, partial(sighting_of, Method.CIP)), medium, [].append
            )
            answered = await converse(
                runner, LOOPBACK, {HERE: closed_ports(10)}, lambda door: Talk(Method.CIP), print
            )
            took = time.monotonic() - began
            assert not end.is_set()
            runner.drop(medium)
        return took, answered

    took, answered = asyncio.run(go())
    # Ten of each, in turns; 0.01 s each, the first at once.
    assert took >= 0.18
    assert answered == {HERE}


def test_who_says_that_nobody_listens_is_not_asked_again():
    async def go(refusals):
        runner, question, left = Runner(), IdentityByAddress(), []
        question.port = closed_ports(1)[0]

        class Counted(AskEach):
            def left(self, packet, now):
                left.append(packet)
                yield from super().left(packet, now)

        with closing(Datagrams.at(LOOPBACK, refusals=refusals)) as medium:
            targets = [IPv4Address(f"127.0.0.{n}") for n in range(1, 6)]
            asking = Counted(question, targets, partial(sighting_of, Method.CIP))
            await runner.run(asking, medium, left.append)
        assert asking.refusal is None
        return len(left)

    assert asyncio.run(go(refusals=True)) == 5
    assert asyncio.run(go(refusals=False)) == 10


@raw
def test_what_others_send_is_charged_to_the_pace():
    class Ten(Conversation):
        """Ten datagrams; between them, others send some that the runner knows nothing of."""

        def __init__(self, others):
            self.others = others
            self.still = 10

        def begin(self, now):
            yield Send(Datagram(Endpoint(HERE, 9), b"ours"))

        def left(self, packet, now):
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as other:
                for _ in range(self.others):
                    other.sendto(b"x", ("127.0.0.1", 9))
            self.still -= 1
            self.over = self.still == 0
            if not self.over:
                yield from self.begin(now)

    async def go(others):
        with (
            paced("lo", Pace(110), burst_seconds=0) as runner,
            closing(Datagrams.at(LOOPBACK)) as medium,
        ):
            began = time.monotonic()
            await runner.run(Ten(others), medium, print)
            return time.monotonic() - began

    # Ten of ours, and twice as many that the runner did not send: thirty at 100 a second, where ten
    # alone would be through in a tenth of one.
    assert asyncio.run(go(others=2)) >= 0.25


@raw
def test_a_link_without_tcp_and_a_recorder_with_everything(tmp_path):
    link = Link("lo", NO_CONVERSATIONS)
    path = tmp_path / "all.pcapng"
    with CaptureFile(path, "lo") as file:
        recorder = Recorder("lo", file.write)
        medium = Datagrams("lo")
        medium.send(Datagram(Endpoint(HERE, 9), b"a datagram"))
        with socket.socket() as stream:
            stream.connect_ex(("127.0.0.1", 9))
        time.sleep(0.3)
        recorder.close()
        medium.close()
    recorded = [captured.data for captured in read_capture(path)]
    received = [frame.data for frame, _ in link.receive()]
    link.close()

    def protocols(frames):
        return {data[23] for data in frames if data[12:14] == b"\x08\x00"}

    assert {socket.IPPROTO_TCP, socket.IPPROTO_UDP} <= protocols(recorded)
    assert any(b"a datagram" in data for data in received)
    assert socket.IPPROTO_TCP not in protocols(received)
    with open(path, "rb") as again:
        assert all(c.at is not None for c in pcapng.parse_frames(again.read))


def test_a_capture_that_cannot_be_written_or_read_says_so(tmp_path):
    with pytest.raises(NotPossibleHere, match="cannot be written"):
        CaptureFile(tmp_path / "no" / "folder.pcapng", "lo")
    with pytest.raises(NotPossibleHere, match="cannot be read"):
        list(read_capture(tmp_path / "missing.pcapng"))


def test_a_capture_takes_the_place_of_an_older_one_and_of_nothing_else(tmp_path):
    path = tmp_path / "plan.csv"
    path.write_text("name,address\n")
    with pytest.raises(BadInput, match="is there already, and is no capture"):
        CaptureFile(path, "lo")
    assert path.read_text() == "name,address\n"
    path.write_text("")
    for data in (b"older" * 100, b"newer"):
        with CaptureFile(path, "lo") as file:
            file.write(data, 0, True)
    assert [captured.data for captured in read_capture(path)] == [b"newer"]


ROUTER, OTHER_MAC = Mac(b"\2\xd0\x11\0\0\1"), Mac(b"\2\x77\xb1\0\0\1")


def test_a_router_that_answers_for_a_whole_subnet_is_named_and_not_asked_address_by_address():
    asked = []
    findings = Findings(Orders(), lambda seen: None, asked.append, lambda: None, Outlook())
    answers = [
        Sighting(1.0, Method.ARP, ROUTER, IPv4Address(0x0A3D1400 + n)) for n in range(1, 255)
    ]
    for seen in answers:
        findings.report(seen)
    findings.report(Sighting(1.0, Method.ARP, OTHER_MAC, IPv4Address("10.61.21.9")))
    assert len(asked) == MANY_ADDRESSES + 1
    router, _ = merge([*answers, Sighting(1.0, Method.ARP, OTHER_MAC, IPv4Address("10.61.20.99"))])
    told = remarks(router, None, Plan())
    assert len(told) == 1
    assert str(told[0].whole).startswith(
        "answers ARP for 254 addresses, as a router does for others"
    )


def test_a_page_that_drips_takes_no_longer_than_a_talk_may():
    def drip(connection):
        connection.recv(1000)
        for octet in b"HTTP/1.1 200 OK\r\n\r\n<title>" + b"x" * 1000:
            connection.sendall(bytes((octet,)))
            time.sleep(0.05)

    port, thread, ends = served(drip)
    script = partial(web_page.script, HERE, port, False)
    talk = Talk(Method.WEB, (script,))
    began = time.monotonic()
    work = converse(
        Runner(), LOOPBACK, {HERE: (port,)}, lambda door: talk, lambda seen: None, patience=0.5
    )
    assert asyncio.run(work) == {HERE}
    thread.join(timeout=10)
    # It was left while the page still had 40 seconds to go.
    assert (time.monotonic() - began) / 50 < 0.5
    assert isinstance(ends[0], OSError)

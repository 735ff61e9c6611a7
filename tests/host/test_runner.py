"""The runner with sockets that are not a network, and jobs on the loopback adapter."""

import asyncio
import socket
import time
from ipaddress import IPv4Address

import pytest

from portcall.core.talk.conversation import (
    Conversation,
    Datagram,
    Endpoint,
    Report,
    Send,
    SendEach,
    StreamBytes,
)
from portcall.core.talk.pacer import Pace, Pacer, Shares
from portcall.core.trouble import NotPossibleHere
from portcall.host.datagrams import Datagrams
from portcall.host.runner import Runner
from portcall.host.streams import Stream


class Pipe:
    """A medium over one end of a socket pair; packets are bytes."""

    def __init__(self, sock):
        self.sock = sock
        self.sock.setblocking(False)
        self.refuse = None

    def fileno(self):
        return self.sock.fileno()

    def receive(self):
        while True:
            try:
                data = self.sock.recv(1000)
            except BlockingIOError:
                return
            yield data, time.monotonic()

    def send(self, packet):
        if self.refuse is not None:
            raise self.refuse
        self.sock.send(packet)

    def close(self):
        self.sock.close()


@pytest.fixture
def pipes():
    ends = socket.socketpair(socket.AF_UNIX, socket.SOCK_DGRAM)
    yield tuple(Pipe(end) for end in ends)
    for end in ends:
        end.close()


class Counting(Conversation):
    """Sends ``count`` packets, the next when one has left; over when all came back."""

    def __init__(self, count):
        self.count = count
        self.out = self.back = 0
        self.missed = []

    def begin(self, now):
        yield Send(b"0")

    def left(self, packet, now):
        self.out += 1
        if self.out < self.count:
            yield Send(str(self.out).encode())

    def unsent(self, packet, reason, now):
        self.missed.append(reason)
        yield from self.left(packet, now)

    def heard(self, packet, now):
        self.back += 1
        self.over = self.back == self.count
        yield Report(packet)


class Echoing(Conversation):
    def heard(self, packet, now):
        yield Send(packet)


def test_packets_leave_in_order_and_not_faster_than_the_pacer_allows(pipes):
    async def go():
        ours, theirs = Runner(Pacer(rate=200, burst=4)), Runner(Pacer(1e6, 1000))
        theirs.start(Echoing(), pipes[1], lambda fact: None)
        facts = []
        began = time.monotonic()
        async with asyncio.timeout(10):
            await ours.run(Counting(60), pipes[0], facts.append)
        theirs.drop(pipes[1])
        return facts, time.monotonic() - began

    facts, took = asyncio.run(go())
    assert facts == [str(n).encode() for n in range(60)]
    assert took >= (60 - 4) / 200


class ToEach(Conversation):
    """Sends some to each of several receivers, the first receiver's first."""

    def __init__(self, receivers, count):
        self.left_over = len(receivers) * count
        self.packets = [Datagram(each, b"") for each in receivers for _ in range(count)]

    def begin(self, now):
        yield from map(Send, self.packets)

    def left(self, packet, now):
        self.left_over -= 1
        self.over = self.left_over == 0
        yield Report((packet.peer.address, now))


class Nowhere(Pipe):
    """Takes every packet."""

    def receive(self):
        return iter(())

    def send(self, packet):
        return None


def test_a_receiver_that_has_had_its_share_keeps_no_other_waiting(pipes):
    one, other = (Endpoint(IPv4Address(f"10.61.20.{n}"), 9) for n in (1, 2))

    async def go():
        runner = Runner(Pacer(1e6, 1000), Shares(Pace(to_one=5)))
        facts = []
        async with asyncio.timeout(10):
            await runner.run(ToEach((one, other), 7), Nowhere(pipes[0].sock), facts.append)
        return facts

    facts = asyncio.run(go())
    assert len(facts) == 14
    first = facts[0][1]
    early = [address for address, at in facts if at < first + 0.9]
    assert early.count(one.address) == early.count(other.address) == 5
    for address in (one.address, other.address):
        times = [at for each, at in facts if each == address]
        assert times[5] - times[0] >= 1.0


def test_a_refused_send_is_told_to_its_conversation_and_not_raised(pipes):
    async def go():
        runner = Runner(Pacer(1e6, 1000))
        pipes[0].refuse = OSError(100, "Network is down")
        conversation = Counting(3)
        runner.start(conversation, pipes[0], lambda fact: None)
        await asyncio.sleep(0.05)
        runner.drop(pipes[0])
        return conversation.missed

    assert asyncio.run(go()) == ["network is down"] * 3


class Pouring(Conversation):
    """Gives ``count`` packets as one source, made when they are wanted."""

    def __init__(self, count):
        self.made = [str(n).encode() for n in range(count)]
        self.made_at = []
        self.left_at = None

    def begin(self, now):
        yield SendEach(self.pour())

    def pour(self):
        for packet in self.made:
            self.made_at.append(time.monotonic())
            yield packet

    def all_left(self, now):
        self.over, self.left_at = True, now
        yield Report("all left")


def test_a_source_is_drawn_at_the_pace_in_turn_with_others_and_nothing_is_lost(pipes):
    async def go():
        runner = Runner(Pacer(rate=200, burst=2))
        pouring = Pouring(40)
        pipes[0].refuse = BlockingIOError()
        facts = []
        over = runner.start(pouring, pipes[0], facts.append)
        runner.start(Echoing(), pipes[0], facts.append)
        pipes[1].sock.send(b"in turn")
        await asyncio.sleep(0.03)
        assert len(pouring.made_at) == 1
        pipes[0].refuse = None
        async with asyncio.timeout(10):
            await over.wait()
        runner.drop(pipes[0])
        return pouring, facts, [packet for packet, _ in pipes[1].receive()]

    pouring, facts, sent = asyncio.run(go())
    assert facts == ["all left"]
    assert [packet for packet in sent if packet != b"in turn"] == pouring.made
    assert sent.index(b"in turn") < 5
    assert pouring.made_at[-1] - pouring.made_at[1] >= 36 / 200


def test_a_source_is_known_to_be_empty_when_its_last_packet_leaves_however_slow_the_pace(pipes):
    async def go():
        pouring = Pouring(2)
        began = time.monotonic()
        await Runner(Pacer(rate=4)).run(pouring, pipes[0], lambda fact: None)
        return pouring.left_at - began

    assert 0.25 <= asyncio.run(go()) < 0.5


def test_a_full_socket_is_tried_again_and_nothing_is_lost(pipes):
    async def go():
        runner = Runner(Pacer(1e6, 1000))
        pipes[0].refuse = BlockingIOError()
        over = runner.start(Counting(3), pipes[0], lambda fact: None)
        other = Runner(Pacer(1e6, 1000))
        other.start(Echoing(), pipes[1], lambda fact: None)
        await asyncio.sleep(0.02)
        pipes[0].refuse = None
        async with asyncio.timeout(5):
            await over.wait()
        other.drop(pipes[1])

    asyncio.run(go())


def test_alarms_ring_when_asked_for_and_end_with_the_conversation(pipes):
    class Waking(Conversation):
        def begin(self, now):
            self.wake_at = now
            self.wakes = 0
            yield from ()

        def woke(self, now):
            assert now >= self.wake_at
            self.wake_at = now + 0.02
            self.wakes += 1
            self.over = self.wakes == 5
            yield Report(now)

    async def go():
        facts = []
        runner = Runner()
        async with asyncio.timeout(5):
            await runner.run(Waking(), pipes[0], facts.append)
        count = len(facts)
        await asyncio.sleep(0.06)
        return count, len(facts)

    count, later = asyncio.run(go())
    assert count == later == 5


def test_datagrams_are_bound_to_their_adapter_and_a_taken_port_is_named():
    async def go():
        loop = asyncio.get_running_loop()
        one, other = Datagrams("lo"), Datagrams("lo")
        port = socket.socket(fileno=socket.dup(other.fileno())).getsockname()[1]
        one.send(Datagram(Endpoint(IPv4Address("127.0.0.1"), port), b"asking"))
        ready = loop.create_future()
        loop.add_reader(other.fileno(), lambda: ready.done() or ready.set_result(None))
        async with asyncio.timeout(5):
            await ready
        ((packet, at),) = list(other.receive())
        assert packet.payload == b"asking"
        assert abs(time.monotonic() - at) < 1
        with pytest.raises(NotPossibleHere, match=f"UDP port {port} is taken by another program"):
            Datagrams("lo", port)
        one.close()
        other.close()

    asyncio.run(go())


def test_a_stream_tells_of_the_end():
    async def go():
        async def serve(reader, writer):
            writer.write(await reader.readexactly(3))
            writer.close()

        server = await asyncio.start_server(serve, "127.0.0.1", 0)
        port = server.sockets[0].getsockname()[1]

        class Talk(Conversation):
            def begin(self, now):
                yield Send(StreamBytes(b"abc"))

            def heard(self, packet, now):
                self.over = packet.data == b""
                yield Report(packet.data)

        heard = []
        async with asyncio.timeout(5):
            connected = socket.create_connection(("127.0.0.1", port))
            connected.setblocking(False)
            stream = Stream(connected)
            await Runner().run(Talk(), stream, heard.append)
        stream.close()
        server.close()
        return heard

    heard = asyncio.run(go())
    assert b"".join(heard) == b"abc"
    assert heard[-1] == b""


class Stumbling(Conversation):
    """Raises when it hears that word; ``where`` it raises."""

    def __init__(self, where):
        self.where = where

    def stumble(self):
        raise ValueError(self.where)
        yield

    def begin(self, now):
        if self.where == "woke":
            self.wake_at = now + 0.01
        if self.where == "source":
            yield SendEach(self.stumble())
        if self.where in ("left", "send"):
            yield Send(b"x" if self.where == "left" else 5)

    def heard(self, packet, now):
        if self.where == "heard at once":
            raise ValueError(self.where)
        if self.where == "heard":
            yield from self.stumble()
        yield Report(packet)

    def left(self, packet, now):
        if self.where == "left":
            yield from self.stumble()

    def woke(self, now):
        yield from self.stumble()


def reporting(where):
    def report(fact):
        if where == "report":
            raise ValueError(where)

    return report


@pytest.mark.parametrize(
    "where", ["heard", "heard at once", "report", "woke", "left", "source", "send"]
)
def test_who_waits_for_a_conversation_that_raises_is_told_at_once_and_the_others_go_on(
    pipes, where
):
    async def go():
        runner = Runner(Pacer(1e6, 1000))
        others = []
        with runner.using(pipes[0]):
            runner.start(Echoing(), pipes[0], others.append)
            end = runner.start(Stumbling(where), pipes[0], reporting(where))
            pipes[1].sock.send(b"hello")
            async with asyncio.timeout(5):
                with pytest.raises(ValueError if where != "send" else TypeError) as raised:
                    await end.wait()
            assert where == "send" or str(raised.value) == where
            # Whoever else is there still hears and answers.
            pipes[1].sock.send(b"again")
            heard = []
            async with asyncio.timeout(5):
                while b"again" not in heard:
                    heard += [packet for packet, _ in pipes[1].receive()]
                    await asyncio.sleep(0.005)

    asyncio.run(go())
    assert pipes[0].sock.fileno() == -1


def test_what_nobody_waited_for_is_raised_when_the_medium_is_given_back(pipes):
    async def go():
        runner = Runner(Pacer(1e6, 1000))
        with runner.using(pipes[0]):
            end = runner.start(Stumbling("report"), pipes[0], reporting("report"))
            pipes[1].sock.send(b"hello")
            while not end.is_set():
                await asyncio.sleep(0.005)

    with pytest.raises(ValueError, match="report"):
        asyncio.run(go())


def test_a_broken_medium_ends_all_its_conversations(pipes):
    class Broken(Pipe):
        def receive(self):
            raise OSError(5, "Input/output error")
            yield

    async def go():
        runner = Runner()
        broken = Broken(pipes[0].sock)
        ends = [runner.start(Echoing(), broken, print) for _ in range(2)]
        pipes[1].sock.send(b"hello")
        for end in ends:
            async with asyncio.timeout(5):
                with pytest.raises(OSError, match="Input/output error"):
                    await end.wait()

    asyncio.run(go())

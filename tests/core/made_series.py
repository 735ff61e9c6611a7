"""Series of echoes with and without patterns, made with a chance that a number sets."""

import random
from ipaddress import IPv4Address

from portcall.core.reach.series import Series


def target(number):
    return IPv4Address(f"10.61.20.{number}")


def made(rng, seconds=600, number=10, every=1.0, time=lambda rng, at: 0.001, lost=None, octets=76):
    """One target's series; ``lost`` and ``octets`` are given the time and the number of an echo."""
    series = Series(target(number))
    for n in range(int(seconds / every)):
        at = n * every + rng.uniform(0, 0.002)
        size = octets(n) if callable(octets) else octets
        noise = rng.lognormvariate(0, 0.15)
        gone = lost is not None and lost(rng, at, size)
        series.add(at, None if gone else time(rng, at) * noise, size)
    return series


def without_pattern(rng):
    """Some targets, each with its own loss and its own kind of noise."""
    kinds = [
        lambda rng: rng.lognormvariate(0, 0.3),
        lambda rng: rng.gammavariate(4, 0.25),
        lambda rng: 0.5 + rng.expovariate(2),
        lambda rng: rng.uniform(0.8, 1.2),
    ]
    every, count = rng.choice([0.2, 1, 1, 5]), rng.choice([60, 120, 300, 600, 1800])
    for number in range(rng.choice([1, 1, 2, 4, 8])):
        loss = rng.choice([0, 0.005, 0.02, 0.05, 0.1, 0.2, 0.4])
        noise, usual = rng.choice(kinds), rng.choice([2e-4, 1e-3, 5e-3, 0.03])
        series = Series(target(number + 10))
        for n in range(count):
            at = n * every + rng.uniform(0, 0.02 * every)
            series.add(at, None if rng.random() < loss else noise(rng) * usual, 76)
        yield series


def in_bursts(rng):
    outages = [(rng.uniform(i * 90, i * 90 + 60), rng.uniform(4, 9)) for i in range(6)]
    return [made(rng, lost=lambda rng, at, size: any(b <= at < b + d for b, d in outages))]


def one_outage(rng):
    return [made(rng, lost=lambda rng, at, size: 200 <= at < 226)]


def every_30_s(rng):
    return [made(rng, lost=lambda rng, at, size: at % 30 < rng.choice([2, 3]))]


def every_12_s(rng):
    return [made(rng, every=0.5, lost=lambda rng, at, size: at % 12 < 0.9)]


def slow_every_20_s(rng):
    return [made(rng, time=lambda rng, at: 0.025 if at % 20 < 1 else 0.001)]


def rising(rng):
    return [made(rng, seconds=1800, time=lambda rng, at: 0.002 + 0.003 * at / 1800)]


def falling(rng):
    return [made(rng, seconds=900, time=lambda rng, at: 0.010 - 0.006 * at / 900)]


def two_levels(rng):
    return [made(rng, time=lambda rng, at: 0.0012 if rng.random() < 0.65 else 0.0065)]


def by_size(rng):
    return [
        made(
            rng,
            octets=lambda n: (76, 1400)[n % 2],
            lost=lambda rng, at, size: size > 1000 and rng.random() < 0.3,
        )
    ]


def four_at_once(rng):
    moments = sorted(rng.sample(range(600), 12))

    def together(rng, at, size):
        return int(at) in moments

    def alone(rng, at, size):
        return rng.random() < 0.01

    shared = [made(rng, number=n, lost=together) for n in (21, 22, 23, 24)]
    return [*shared, made(rng, number=10), made(rng, number=40, lost=alone)]


PATTERNS = {
    in_bursts: ("bursts", "in 6 bursts"),
    one_outage: ("bursts", "lost 26 in one go, for 26"),
    every_30_s: ("period", "loses 2 to 3 echoes every 30.0 s"),
    every_12_s: ("period", "loses 2 echoes every 12.0 s"),
    slow_every_20_s: ("period", "is slow with 1 echo every 20.0 s"),
    rising: ("drift", "its median rises from 2."),
    falling: ("drift", "its median falls from 9."),
    two_levels: ("levels", "its times have two levels, 1.2 ms and 6."),
    by_size: ("size", "of the packets of 1400 octets, and 0% of those of 76"),
    four_at_once: (
        "together",
        "these 4 go at once: 10.61.20.21, 10.61.20.22, 10.61.20.23, 10.61.20.24",
    ),
}
"""How each is made, and which pattern and which words it has to be told by."""


def seeded(number):
    return random.Random(number)

"""The state of a site rests on the newest entry of each key, and on the chain of its lines."""

from datetime import UTC, datetime, timedelta

from hypothesis import given, settings
from hypothesis import strategies as some

from portcall.core.plan.reading import parse_plan
from portcall.core.record.chain import NOTHING, Chain, DamageKind, digest_of, link_of, linked
from portcall.core.record.clocks import misdated
from portcall.core.record.entry import Entry, Kind
from portcall.core.record.marks import keys_of
from portcall.core.record.standing import standing

MACS = [f"02-77-B1-00-00-0{n}" for n in range(1, 4)]
LIST = "".join(f"d{n},{mac},10.61.20.{n}\n" for n, mac in enumerate(MACS, 1))
PLAN = parse_plan(f"name,mac,address\n{LIST}".encode(), "plan.csv")
ROWS = some.integers(1, 3)
VERDICTS = some.sampled_from(["right", "elsewhere", "missing", "not judged"])


@some.composite
def bodies(draw):
    kind = draw(some.sampled_from([k for k in Kind if k is not Kind.NOTE]))
    n = draw(ROWS)
    about = {"name": f"d{n}", "mac": MACS[n - 1], "address": f"10.61.20.{n}"}
    seen = [
        {"mac": MACS[m - 1], "addresses": [f"10.61.20.{m}"] if m % 2 else [], "asks": ["DHCP"]}
        for m in draw(some.lists(ROWS, max_size=3, unique=True))
    ]
    if kind is Kind.LOOK:
        return kind, {"devices": seen}, {}
    if kind is Kind.VERIFICATION:
        rows = [
            {
                "name": f"d{m}",
                "mac": MACS[m - 1] if draw(some.booleans()) else MACS[0],
                "address": f"10.61.20.{m}",
                "verdict": draw(VERDICTS),
                "unread": draw(some.sampled_from([[], ["mask"]])),
                "findings": ["what"],
            }
            for m in draw(some.lists(ROWS, max_size=3, unique=True))
        ]
        strangers = [{"mac": "02-00-00-00-00-99"}] if draw(some.booleans()) else []
        whole = draw(some.sampled_from([True, False, None]))
        return (
            kind,
            {"devices": seen, "rows": rows, "whole_plan": whole, "unplanned": strangers},
            {},
        )
    if kind is Kind.PLAN:
        was = {"name": f"d{n}", "mask": draw(some.sampled_from(["24", "16"]))}
        change = draw(some.sampled_from("abc"))
        if draw(some.booleans()):
            return kind, {"was": was, "is": {**was, "mask": "24"}, "change": change}, about
        return kind, {"step": "taken back", "change": change}, {}
    if kind is Kind.SETTING and draw(some.booleans()):
        about["address"] = "0.0.0.0"
    said = {
        "step": draw(some.sampled_from(["before", "done", "not done", "read"])),
        "settings": draw(some.sampled_from(["asks by BOOTP", "10.61.20.1/24 stored"])),
        "event": draw(some.sampled_from(["assigned", "answering", "declined"])),
        "verdict": draw(some.sampled_from(["kept", "asking", "right", "missing"])),
        "by": "CIP",
    }
    return kind, said, about


@settings(max_examples=300)
@given(some.lists(bodies(), max_size=25))
def test_the_newest_of_each_key_give_the_state_that_all_give(told):
    start = datetime(2026, 11, 20, tzinfo=UTC)
    whole = [
        (Entry(f"{n:03}", start + timedelta(minutes=n), kind, **about), body)
        for n, (kind, body, about) in enumerate(told)
    ]
    newest = {key: entry.uid for entry, body in whole for key in keys_of(entry, body)}
    chosen = [(entry, body) for entry, body in whole if entry.uid in set(newest.values())]
    assert standing(PLAN, chosen) == standing(PLAN, whole)


LINES = some.lists(some.integers(0, 999), min_size=3, max_size=12)


def chained(values):
    lines, before = [], NOTHING
    for number, value in enumerate(values, 1):
        lines.append(linked(f'{{"value": {value}}}', number, before).encode())
        before = digest_of(lines[-1])
    return lines


def found(lines):
    chain = Chain()
    told = [each for line in lines for each in chain.take(line, line.endswith(b"}"))]
    return told + chain.end()


@given(LINES, some.data())
def test_whatever_is_done_to_lines_but_to_the_last_ones_is_seen(values, data):
    lines = chained(values)
    assert found(lines) == []
    assert [link_of(line)[0] for line in lines] == list(range(1, len(lines) + 1))
    place = data.draw(some.integers(0, len(lines) - 2))
    how = data.draw(some.sampled_from(["changed", "out", "in", "swapped", "cut"]))
    if how == "changed":
        lines[place] = lines[place].replace(b'"value": ', b'"value": 1')
    elif how == "out":
        del lines[place]
    elif how == "in":
        lines.insert(place + 1, b'{"value": 0}')
    elif how == "swapped":
        lines[place], lines[place + 1] = lines[place + 1], lines[place]
    else:
        lines[place] = lines[place][:-3]
    told = found(lines)
    assert told != []
    # It is said of the line that it happened to, or of the one behind it.
    assert abs(told[0].line - (place + 1)) <= 1
    assert all(each.kind is not DamageKind.CUT for each in told)


def test_a_line_that_a_crash_cut_is_no_damage_once_the_next_one_vouches_for_it():
    lines = chained([1, 2])
    cut = lines[1][:-4]
    lines = [lines[0], cut, linked('{"value": 3}', 3, digest_of(cut)).encode()]
    assert [each.kind for each in found(lines)] == [DamageKind.CUT]


@given(
    some.lists(some.integers(0, 10), min_size=4, max_size=30),
    some.data(),
)
def test_a_clock_that_was_wrong_is_found_where_most_are_in_order(steps, data):
    now = 1_000_000.0
    times = [now - 3600 * (len(steps) - n) + step for n, step in enumerate(steps)]
    assert not any(misdated(times, now))
    place = data.draw(some.integers(1, len(times) - 2))
    off = data.draw(some.sampled_from([1e7, 1e5 * 5, -1e6]))
    wrong = [at + off if n == place else at for n, at in enumerate(times)]
    assert [n for n, is_wrong in enumerate(misdated(wrong, now)) if is_wrong] == [place]

"""What the pattern of a series says: told where there is one, hardly ever where there is none."""

from importlib.util import find_spec

import pytest
from made_series import PATTERNS, seeded, target, without_pattern

from portcall.core.reach.series import Series

pytestmark = pytest.mark.skipif(
    find_spec("scipy") is None, reason="not installed; make test installs it"
)


def patterns(watched):
    # Loading it takes longer than all else that each process of a test run collects.
    from portcall.core.reach import patterns

    return patterns.patterns(watched)


@pytest.mark.parametrize("make", PATTERNS, ids=lambda make: make.__name__)
def test_a_pattern_is_told_in_words(make):
    kind, words = PATTERNS[make]
    for number in range(5):
        found = patterns(make(seeded(number)))
        assert [each.kind for each in found] == [kind], found
        assert words in found[0].sentence


def test_of_those_that_go_together_the_others_are_told_too():
    (make,) = (make for make, (kind, _) in PATTERNS.items() if kind == "together")
    (found,) = patterns(make(seeded(3)))
    assert len(found.targets) == 4
    assert "never with them: 10.61.20.10" in found.sentence


@pytest.mark.long
def test_chance_is_hardly_ever_called_a_pattern():
    alarms = [
        found for number in range(200) if (found := patterns(list(without_pattern(seeded(number)))))
    ]
    assert len(alarms) <= 2, alarms


@pytest.mark.parametrize("lost", [[], [0], range(10), range(100)], ids=len)
def test_little_says_nothing(lost):
    for length in (0, 1, 5, 39):
        series = Series(target(10))
        for n in range(length):
            series.add(float(n), None if n in lost else 0.001, 76)
        assert patterns([series, series]) == ()
    everything = Series(target(10))
    for n in range(200):
        everything.add(float(n), None, 76)
    assert patterns([everything]) == ()

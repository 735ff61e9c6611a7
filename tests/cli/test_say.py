"""How things are said: counts, times, errors in two parts, lines that are broken between words."""

import sys
from ipaddress import IPv4Address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portcall.cli import completing, say
from portcall.cli.main import portcall
from portcall.cli.say import ago, duration, wrapped
from portcall.core.counted import counted, named
from portcall.core.finding import Line
from portcall.core.trouble import BadInput
from portcall.host.linux import rights
from portcall.site.plan_names import plan_names


@pytest.mark.parametrize(
    ("seconds", "words"),
    [
        (0, "0 s"),
        (59.6, "60 s"),
        (119, "119 s"),
        (125, "2 min"),
        (7199, "120 min"),
        (9000, "2 h"),
        (1e6, "12 days"),
    ],
)
def test_a_length_of_time_is_told_in_the_unit_that_people_use(seconds, words):
    assert duration(seconds) == words
    assert ago(seconds) == ("now" if seconds < 1 else f"{words} ago")


def test_what_is_counted_agrees_in_number():
    assert (counted(1, "mistake"), counted(0, "row"), counted(1203, "device")) == (
        "1 mistake",
        "0 rows",
        "1,203 devices",
    )


def test_an_error_has_what_is_wrong_and_what_to_do():
    by_words = BadInput("octet 4 is 300", "an octet is 0 to 255")
    by_line = BadInput("a; b; first", Line("match", IPv4Address("10.61.20.1")))
    assert str(by_words) == "octet 4 is 300; an octet is 0 to 255"
    assert str(by_line) == "a; b; first: portcall match 10.61.20.1"
    assert str(BadInput("nothing to add")) == "nothing to add"


def test_names_that_nobody_would_read_are_counted():
    assert named(["a", "b"], 2) == "a, b"
    assert named(list(range(1203)), 2, " ") == "0 1 and 1,201 more"
    assert counted(1, "device asks", "devices ask") == "1 device asks"
    assert counted(2, "device asks", "devices ask") == "2 devices ask"


@pytest.mark.parametrize("asked", ["foo_complete", "bash_complete", "_complete", "complete"])
def test_who_asks_for_completion_as_no_shell_does_gets_nothing(asked, monkeypatch):
    monkeypatch.delenv("COMP_WORDS", raising=False)
    assert completing.answer(portcall, asked) in ("", None)
    assert completing.answer(portcall, "bash_source") is None


class Terminal:
    def isatty(self):
        return True


@given(st.lists(st.text("abcdefghij-", min_size=1, max_size=12), min_size=1, max_size=30))
def test_a_sentence_on_a_terminal_is_broken_between_words_only(words):
    sentence = " ".join(words)
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(sys, "stderr", Terminal())
        patched.setattr(say, "get_terminal_size", lambda: type("Size", (), {"columns": 20}))
        lines = wrapped(sentence).split("\n")
    assert " ".join(lines) == sentence
    assert all(len(line) <= 20 for line in lines)
    assert wrapped(sentence) == sentence


def test_the_line_that_has_the_rights_names_the_program_where_sudo_would_not_find_it(monkeypatch):
    monkeypatch.setattr(sys, "argv", ["/opt/tools/bin/portcall", "find", "10.61.20.0/24"])
    monkeypatch.setattr(rights.shutil, "which", lambda name, path: None)
    assert rights.with_rights() == "sudo /opt/tools/bin/portcall find 10.61.20.0/24"
    monkeypatch.setattr(rights.shutil, "which", lambda name, path: f"/usr/bin/{name}")
    assert rights.with_rights() == "sudo portcall find 10.61.20.0/24"


def test_names_are_read_from_a_plan_in_whatever_form_it_is(tmp_path):
    deep = tmp_path / "photos" / "today"
    deep.mkdir(parents=True)
    assert plan_names(deep) == []
    for data, names in (
        (b"\xef\xbb\xbfaddress;Name\r\n10.61.20.1;fan\r\n2;\r\n;pump\r\n", ["fan", "pump"]),
        (b"sep=\t\nname\taddress\nF\xf6rderer\t10.61.20.3\n", ["F\xf6rderer"]),
        ("name,address\nfan,2\n".encode("utf-16"), ["fan"]),
        (b"name,address\nfan,2\nb\x1b[2J,10.61.20.4\n", []),
        (b"address\n10.61.20.1\n", []),
        (b"", []),
    ):  # fmt: skip
        (tmp_path / "plan.csv").write_bytes(data)
        assert plan_names(deep) == names
    (tmp_path / "photos" / "site.toml").write_text("")
    assert plan_names(deep) == []

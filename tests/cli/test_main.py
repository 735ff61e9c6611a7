"""What holds for every command line."""

import sys
import time

import click
import pytest

from portcall.cli.main import portcall, say_again


class Clumsy:
    """Ctrl-C comes while Python is in a callback of its own, where it drops what is raised."""

    def __del__(self):
        raise KeyboardInterrupt


def test_ctrl_c_that_python_drops_is_said_again(monkeypatch):
    monkeypatch.setattr(sys, "unraisablehook", say_again)
    Clumsy()
    with pytest.raises(KeyboardInterrupt):
        time.sleep(5)


def leaves(command, words):
    """Every command that has none below it, with the words that call it."""
    context = click.Context(command, info_name=words)
    if not isinstance(command, click.Group):
        yield words, command.get_help(context)
        return
    for name in command.list_commands(context):
        yield from leaves(command.get_command(context, name), f"{words} {name}")


def test_every_help_page_ends_in_two_lines_to_type():
    ends = [
        (words, [line.strip() for line in page.split("\nOptions:")[0].rstrip().splitlines()[-2:]])
        for words, page in leaves(portcall, "portcall")
    ]
    others = [
        end
        for end in ends
        if not all(line.startswith((end[0], f'eval "$({end[0]}')) for line in end[1])
    ]
    assert (others, len(ends) > 40) == ([], True)

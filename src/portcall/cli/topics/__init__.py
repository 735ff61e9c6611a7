"""Pages on what is no command, for ``portcall help TOPIC`` and for the man pages."""

from __future__ import annotations

TOPICS = {
    "site-folder": "The files of a site, and what site.toml says.",
    "plan-columns": "What stands in each column of plan.csv.",
    "adapter": "Which adapter is used, and which never is.",
    "exit-codes": "How a command ends; JSON, colours.",
    "codes": "Every code in JSON, with its values and its sentence.",
    "privileges": "Which command needs which rights, and what goes without.",
    "windows": "What works on Windows, and what that needs.",
    "faults": "What goes wrong on a plant network, to practise with.",
    "catalogues": "Files that name what devices say only in numbers.",
    "scenarios": "Practice plants of your own.",
}


def page(topic: str) -> str:
    """The page of a topic, in Markdown."""
    from importlib.resources import files  # The list of topics alone is there at once.

    if topic == "codes":
        from portcall.cli.topics import codes

        return codes.page()

    return (files(__name__) / f"{topic}.md").read_text(encoding="utf-8")

"""Jobs: what a command does, without a word printed.

Conversations are put on the host's sockets, with the site's files. Facts come out as they happen,
to whoever asked: a command, a script, another front. ``docs/library.md`` shows how a script uses
them.
"""

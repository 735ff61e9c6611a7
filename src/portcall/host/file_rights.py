"""Rights that a program has by its file, whoever runs it."""

from portcall.host.linux.file_rights import copy_with_rights, ignores_rights, rights_of, runs

__all__ = ["copy_with_rights", "ignores_rights", "rights_of", "runs"]

"""Rights that a program has by its file, whoever runs it."""

import sys

if sys.platform == "win32":
    from portcall.host.windows.lacking import refuse as copy_with_rights
    from portcall.host.windows.lacking import refuse as ignores_rights
    from portcall.host.windows.lacking import refuse as rights_of
    from portcall.host.windows.lacking import refuse as runs
else:
    from portcall.host.linux.file_rights import copy_with_rights, ignores_rights, rights_of, runs

__all__ = ["copy_with_rights", "ignores_rights", "rights_of", "runs"]

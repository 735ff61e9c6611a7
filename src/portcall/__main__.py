"""``python -m portcall`` is the ``portcall`` command."""

from portcall.cli.main import main

if __name__ == "__main__":
    main()

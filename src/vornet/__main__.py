"""``python -m vornet`` is the ``vornet`` command."""

from vornet.cli import main

main()

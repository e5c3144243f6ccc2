"""``python -m vornet`` is the ``vornet`` command."""

from vornet.entry import main

main()

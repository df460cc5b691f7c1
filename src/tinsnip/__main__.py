"""``python -m tinsnip``."""

from tinsnip.cli import main

main()

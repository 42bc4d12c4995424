"""``python -m nivelus.cli``."""

from nivelus.cli import main

main()

"""`python -m eaveplane.cli`."""

from . import main

main()

"""`python -m historon`."""

from historon.cli.main import main

main()

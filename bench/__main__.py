"""`python -m bench`: all of it, one after another."""

from bench import start, store

start.main()
store.main()

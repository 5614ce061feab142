"""`python -m bench`: all of it, one after another."""

from bench import rounds, start, store

start.main()
store.main()
rounds.main()

"""`python -m bench`: all of it, one after another."""

from bench import changes, copies, engines, growth, judging, lines, rounds, start, store

start.main()
store.main()
engines.main()
copies.main()
judging.main()
lines.main()
changes.main()
growth.main()
rounds.main()

"""Trials that go on for minutes or hours: kills, hostile bytes, and sources that do what they can to be in the way."""

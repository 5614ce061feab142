"""Simulated devices and services that speak the real protocols, on loopback only; for the demo, and for tests."""

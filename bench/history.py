"""A made-up history: sources whose configuration is edited now and then, with a clock line that changes nightly."""

import random
from collections.abc import Iterator

_WORDS = (
    "quay",
    "berth",
    "ramp",
    "slip",
    "yard",
    "ferry",
    "crane",
    "mast",
    "keel",
    "bilge",
    "anchor",
    "capstan",
    "fender",
    "mooring",
    "tide",
    "pilot",
    "deck",
)


def configuration(rng: random.Random, lines: int = 2200) -> list[str]:
    """A router-like text of about 40 bytes a line."""
    out = [f"hostname {rng.choice(_WORDS)}-{rng.randrange(999)}", "! saved at 2026-01-01 00:00:00", "!"]
    port = 0
    while len(out) < lines:
        port += 1
        out += [
            f"interface port-{port}",
            f"  description {' '.join(rng.choices(_WORDS, k=5))} {rng.randrange(10**6)}",
            f"  address 10.{rng.randrange(256)}.{rng.randrange(256)}.{rng.randrange(256)} 255.255.255.0",
            f"  mtu {rng.choice((1500, 9000))}",
            f"  access-list {rng.choice(_WORDS)}-{rng.randrange(99)} in",
            f"  key {rng.getrandbits(96):024x}" if rng.random() < 0.2 else "  shutdown",
            "!",
        ]
    return [*out, "end"]


def nightly(rng: random.Random, config: list[str], night: int) -> list[str]:
    """The configuration a night later: a new clock line, and on every third night an edit or two."""
    config = list(config)
    config[1] = (
        f"! saved at 2026-{1 + night // 28:02}-{1 + night % 28:02} 02:{rng.randrange(60):02}:{rng.randrange(60):02}"
    )
    if rng.random() < 0.33:
        for _ in range(rng.randrange(1, 4)):
            at = rng.randrange(3, len(config) - 1)
            new = f"  description {' '.join(rng.choices(_WORDS, k=4))} {rng.randrange(10**6)}"
            config[at : at + rng.randrange(2)] = [new]
    return config


def history(sources: int, nights: int, *, seed: int = 1) -> Iterator[dict[str, bytes]]:
    """Night by night, every source's export; the same for the same seed. Sources are of five models."""
    models = [configuration(random.Random(f"{seed}/{model}")) for model in range(5)]
    rng = random.Random(seed)
    now = {}
    for number in range(sources):
        config = list(models[number % 5])
        for at in rng.sample(range(3, len(config) - 1), k=len(config) // 3):
            config[at] = configuration(rng, 12)[5 + rng.randrange(4)]
        now[f"source-{number:03}"] = config
    for night in range(nights):
        for name, config in now.items():
            now[name] = nightly(rng, config, night)
        yield {name: ("\n".join(config) + "\n").encode() for name, config in now.items()}

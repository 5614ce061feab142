"""`python -m torture`: a quarter of an hour of it; each trial alone takes more, as long as one likes."""

import subprocess
import sys

_TRIALS = (
    ["torture.kills", "--by-chance", "5"],
    ["torture.fuzz", "--executions", "50000"],
    ["torture.load", "--minutes", "3"],
)

failed = False
for trial in _TRIALS:
    print(f"== {' '.join(trial)}", flush=True)
    failed |= subprocess.run([sys.executable, "-m", *trial], check=False).returncode != 0
sys.exit(failed)

"""What the administrator writes: settings, sources, references to secrets, selection."""

from historon.estate.checking import EstateError, Problem, nearest
from historon.estate.durations import Duration, Size, describe
from historon.estate.layout import ESTATE_FILE, lay_out, write_private
from historon.estate.model import (
    Credentials,
    Estate,
    MailChannel,
    Pattern,
    Procedure,
    Retention,
    Settings,
    Source,
    Step,
)
from historon.estate.reading import read_estate
from historon.estate.secrets import Secret, SecretError, SecretRef
from historon.estate.selection import select
from historon.estate.values import fill_steps, values_of

__all__ = [
    "ESTATE_FILE",
    "Credentials",
    "Duration",
    "Estate",
    "EstateError",
    "MailChannel",
    "Pattern",
    "Problem",
    "Procedure",
    "Retention",
    "Secret",
    "SecretError",
    "SecretRef",
    "Settings",
    "Size",
    "Source",
    "Step",
    "describe",
    "fill_steps",
    "lay_out",
    "nearest",
    "read_estate",
    "select",
    "values_of",
    "write_private",
]

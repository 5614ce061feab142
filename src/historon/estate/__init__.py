"""What the administrator writes: settings, sources, references to secrets, selection."""

from historon.estate.channels import Attaching, Channel, check_trust
from historon.estate.checking import EstateError, Problem
from historon.estate.copies import Copy, FarCopy
from historon.estate.durations import Duration, Share, Size, describe, in_words
from historon.estate.editing import add_rules, add_sources, read_rows, set_source_key
from historon.estate.event_kinds import EVENT_KINDS, EventKind, Severity
from historon.estate.kinds import CHANNELS, COPIES, TRANSPORTS, module_of
from historon.estate.layout import ESTATE_FILE, lay_out, replace_file, write_private
from historon.estate.legacy import LEGACY
from historon.estate.model import (
    AFTER_ROUNDS,
    Budget,
    Credentials,
    Estate,
    Jump,
    Requirement,
    Retention,
    Settings,
    Source,
    WeightRule,
)
from historon.estate.patterns import Expression, Finder, Noise, Pattern, QuickPattern
from historon.estate.procedure_files import shipped_names, shipped_text
from historon.estate.procedures import Lines, Needs, Procedure
from historon.estate.reading import read_estate, read_procedure
from historon.estate.recurrence import after_hours, instants, next_instants
from historon.estate.required import (
    REQUIREMENTS,
    UNKNOWN_MARK,
    RequirementState,
    requirement_state,
    requirements_of,
    rules_digest,
    same_rules,
)
from historon.estate.secrets import Secret, SecretError, SecretRef, is_reference, small_environment, without_secrets
from historon.estate.selection import select
from historon.estate.settings_files import missing_secrets, settings_digest, settings_files
from historon.estate.spelling import nearest
from historon.estate.steps import (
    ASKING,
    WITH_CLAUSES,
    Asking,
    Await,
    Check,
    Clauses,
    Clock,
    Each,
    Judged,
    Keep,
    Keeping,
    Learning,
    Pause,
    Pick,
    Pull,
    Put,
    Said,
    Saying,
    Send,
    Step,
    Tidy,
    walk,
)
from historon.estate.store_place import StorePlace
from historon.estate.subscriptions import Subscription
from historon.estate.table import Port, given
from historon.estate.timetable_words import words_of
from historon.estate.timetables import Freeze, Hours, Timetable
from historon.estate.values import ACCOUNT_VALUES, fill, missing_values, values_of

__all__ = [
    "ACCOUNT_VALUES",
    "AFTER_ROUNDS",
    "ASKING",
    "CHANNELS",
    "COPIES",
    "ESTATE_FILE",
    "EVENT_KINDS",
    "LEGACY",
    "REQUIREMENTS",
    "TRANSPORTS",
    "UNKNOWN_MARK",
    "WITH_CLAUSES",
    "Asking",
    "Attaching",
    "Await",
    "Budget",
    "Channel",
    "Check",
    "Clauses",
    "Clock",
    "Copy",
    "Credentials",
    "Duration",
    "Each",
    "Estate",
    "EstateError",
    "EventKind",
    "Expression",
    "FarCopy",
    "Finder",
    "Freeze",
    "Hours",
    "Judged",
    "Jump",
    "Keep",
    "Keeping",
    "Learning",
    "Lines",
    "Needs",
    "Noise",
    "Pattern",
    "Pause",
    "Pick",
    "Port",
    "Problem",
    "Procedure",
    "Pull",
    "Put",
    "QuickPattern",
    "Requirement",
    "RequirementState",
    "Retention",
    "Said",
    "Saying",
    "Secret",
    "SecretError",
    "SecretRef",
    "Send",
    "Settings",
    "Severity",
    "Share",
    "Size",
    "Source",
    "Step",
    "StorePlace",
    "Subscription",
    "Tidy",
    "Timetable",
    "WeightRule",
    "add_rules",
    "add_sources",
    "after_hours",
    "check_trust",
    "describe",
    "fill",
    "given",
    "in_words",
    "instants",
    "is_reference",
    "lay_out",
    "missing_secrets",
    "missing_values",
    "module_of",
    "nearest",
    "next_instants",
    "read_estate",
    "read_procedure",
    "read_rows",
    "replace_file",
    "requirement_state",
    "requirements_of",
    "rules_digest",
    "same_rules",
    "select",
    "set_source_key",
    "settings_digest",
    "settings_files",
    "shipped_names",
    "shipped_text",
    "small_environment",
    "values_of",
    "walk",
    "without_secrets",
    "words_of",
    "write_private",
]

"""What the administrator writes: settings, sources, references to secrets, selection."""

from historon.estate.checking import EstateError, Problem
from historon.estate.durations import Duration, Share, Size, describe, in_words
from historon.estate.editing import add_rules, add_sources, read_rows, set_source_key
from historon.estate.event_kinds import EVENT_KINDS, EventKind, Severity
from historon.estate.layout import ESTATE_FILE, lay_out, replace_file, write_private
from historon.estate.legacy import LEGACY
from historon.estate.model import (
    AFTER_ROUNDS,
    AnyChannel,
    CommandChannel,
    Copy,
    Credentials,
    Estate,
    FileChannel,
    FolderCopy,
    GitCopy,
    Jump,
    MailChannel,
    Requirement,
    Retention,
    Settings,
    Source,
    StoreCopy,
    SyslogChannel,
    WebhookChannel,
    WeightRule,
)
from historon.estate.patterns import Expression, Finder, Noise, Pattern, QuickPattern
from historon.estate.procedure_files import shipped_names, shipped_text
from historon.estate.procedures import Check, Needs, Procedure, Said, Step, walk
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
from historon.estate.store_place import StorePlace
from historon.estate.subscriptions import Subscription
from historon.estate.timetable_words import words_of
from historon.estate.timetables import Freeze, Hours, Timetable
from historon.estate.transport_kinds import TRANSPORTS, TransportKind, TransportName
from historon.estate.values import ACCOUNT_VALUES, fill, values_of

__all__ = [
    "ACCOUNT_VALUES",
    "AFTER_ROUNDS",
    "ESTATE_FILE",
    "EVENT_KINDS",
    "LEGACY",
    "REQUIREMENTS",
    "TRANSPORTS",
    "UNKNOWN_MARK",
    "AnyChannel",
    "Check",
    "CommandChannel",
    "Copy",
    "Credentials",
    "Duration",
    "Estate",
    "EstateError",
    "EventKind",
    "Expression",
    "FileChannel",
    "Finder",
    "FolderCopy",
    "Freeze",
    "GitCopy",
    "Hours",
    "Jump",
    "MailChannel",
    "Needs",
    "Noise",
    "Pattern",
    "Problem",
    "Procedure",
    "QuickPattern",
    "Requirement",
    "RequirementState",
    "Retention",
    "Said",
    "Secret",
    "SecretError",
    "SecretRef",
    "Settings",
    "Severity",
    "Share",
    "Size",
    "Source",
    "Step",
    "StoreCopy",
    "StorePlace",
    "Subscription",
    "SyslogChannel",
    "Timetable",
    "TransportKind",
    "TransportName",
    "WebhookChannel",
    "WeightRule",
    "add_rules",
    "add_sources",
    "after_hours",
    "describe",
    "fill",
    "in_words",
    "instants",
    "is_reference",
    "lay_out",
    "missing_secrets",
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

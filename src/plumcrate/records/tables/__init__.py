"""The tables. A file is an original or a rendition; what we made beside one is derived from it."""

from .base import Base
from .delivery import CountedLog, Purge, SentBytes
from .doors import (
    AuditRow,
    Invitation,
    InvitationGrant,
    Key,
    KeyGrant,
    Person,
    PersonGrant,
    RecoveryCode,
    Session,
)
from .libraries import (
    Backup,
    Derived,
    File,
    Installation,
    Journal,
    Ledger,
    LeftStore,
    Library,
    Picture,
    RecipeVersion,
    Result,
    Tally,
)
from .plans import AllowanceNotice, AllowanceUse, KeptReport, OutgoingMessage
from .shapes import AskedFile, SizeRow, WatermarkRow
from .site import NeededSize, Shot, SitePage, Weighing
from .work import Arrival, HookDelivery, Item, Job, Run, WorkerRow

__all__ = [
    "AllowanceNotice",
    "AllowanceUse",
    "Arrival",
    "AskedFile",
    "AuditRow",
    "Backup",
    "Base",
    "CountedLog",
    "Derived",
    "File",
    "HookDelivery",
    "Installation",
    "Invitation",
    "InvitationGrant",
    "Item",
    "Job",
    "Journal",
    "KeptReport",
    "Key",
    "KeyGrant",
    "Ledger",
    "LeftStore",
    "Library",
    "NeededSize",
    "OutgoingMessage",
    "Person",
    "PersonGrant",
    "Picture",
    "Purge",
    "RecipeVersion",
    "RecoveryCode",
    "Result",
    "Run",
    "SentBytes",
    "Session",
    "Shot",
    "SitePage",
    "SizeRow",
    "Tally",
    "WatermarkRow",
    "Weighing",
    "WorkerRow",
]

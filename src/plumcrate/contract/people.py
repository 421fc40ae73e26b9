"""People and machines: who they are, what each may do in which library, and how they come in."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Annotated

from pydantic import AfterValidator, Field, model_validator

from .common import Answer, Flag, Message, Whole


class Ability(StrEnum):
    """What may be done in a library."""

    LOOK = "look"
    MEND = "mend"
    UPLOAD = "upload"
    TREAT = "treat"
    ADMINISTER = "administer"


class Role(StrEnum):
    """What a person is in a library."""

    LOOK = "look"
    EDIT = "edit"
    TREAT = "treat"
    ADMINISTER = "administer"


#: What each role may do. Whoever administers the service may do everything in every library.
ROLES: dict[Role, frozenset[Ability]] = {
    Role.LOOK: frozenset({Ability.LOOK}),
    Role.EDIT: frozenset({Ability.LOOK, Ability.MEND, Ability.UPLOAD}),
    Role.TREAT: frozenset({Ability.LOOK, Ability.MEND, Ability.UPLOAD, Ability.TREAT}),
    Role.ADMINISTER: frozenset(Ability),
}
#: What each ability is, in a sentence.
ABILITIES: dict[Ability, str] = {
    Ability.LOOK: "see the library, its pictures, runs, savings and page weights",
    Ability.MEND: "put one picture back, and leave one alone",
    Ability.UPLOAD: "put new pictures into the library",
    Ability.TREAT: "treat and restore, survey, check, forecast, weigh pages, count logs",
    Ability.ADMINISTER: "change settings and the recipe, delete backups, hand the library back, people, keys",
}

PASSWORD_LEAST = 10
Password = Annotated[str, Field(min_length=PASSWORD_LEAST, max_length=1000)]
Email = Annotated[str, Field(max_length=320, pattern=r"^[^\s@]+@[^\s@]+$")]
Name = Annotated[str, Field(min_length=1, max_length=120)]
LibrarySlug = Annotated[str, Field(max_length=100)]


def _as_set(abilities: list[Ability]) -> list[Ability]:
    """In their usual order; whoever may do anything may look."""
    return [one for one in Ability if one in abilities or (abilities and one is Ability.LOOK)]


Abilities = Annotated[list[Ability], AfterValidator(_as_set)]


class SignIn(Message):
    email: str = Field(max_length=320)
    password: str = Field(max_length=1000)
    code: str | None = Field(
        None, max_length=40, description="The second factor's six digits, or a recovery code."
    )


class Access(Answer):
    """What somebody may do in a library. ``role`` is null for a key."""

    library: str
    role: Role | None = None
    abilities: list[Ability] = Field(default_factory=list)


class Person(Answer):
    """Who is asking; for a key, the key's name."""

    name: str
    email: str | None
    service: Flag = Field(False, description="Administers the whole service.")
    second_factor: Flag = Field(False, description="Signs in with a second factor.")
    access: list[Access] = Field(default_factory=list, description="By library, those that may be seen.")


class Grant(Message):
    """A role in a library."""

    library: LibrarySlug
    role: Role


class PersonRow(Answer):
    """One who has an account."""

    id: int
    name: str
    email: str
    service: Flag
    suspended: Flag
    second_factor: Flag
    grants: list[Grant]
    created_at: datetime
    signed_in_at: datetime | None


class PersonChange(Message):
    """What is left out stays as it is."""

    name: Name | None = None
    service: Flag | None = None
    suspended: Flag | None = None
    grants: list[Grant] | None = None
    second_factor: Flag | None = Field(
        None, description="False removes the second factor of a person who lost it."
    )

    @model_validator(mode="after")
    def _once(self) -> PersonChange:
        _refuse_twice(self.grants or [])
        if self.second_factor:
            raise ValueError("only the person can set up a second factor")
        return self


class Member(Answer):
    """One with a role in a library. Nothing is said of what else they may see."""

    id: int
    name: str
    email: str
    role: Role


class MemberChange(Message):
    role: Role


class InvitationRequest(Message):
    """Whom to invite, and to what. An account that is there already is added to, after its password."""

    email: Email
    name: str = Field("", max_length=120)
    service: Flag = False
    grants: list[Grant] = Field(default_factory=list, max_length=500)
    days: Annotated[Whole, Field(ge=1, le=60)] = 7

    @model_validator(mode="after")
    def _once(self) -> InvitationRequest:
        _refuse_twice(self.grants)
        return self


class MemberInvitation(Message):
    """Whom to invite to one library."""

    email: Email
    name: str = Field("", max_length=120)
    role: Role
    days: Annotated[Whole, Field(ge=1, le=60)] = 7


class InvitationPurpose(StrEnum):
    INVITATION = "invitation"
    SET_UP = "set-up"
    NEW_PASSWORD = "new-password"


class Invitation(Answer):
    """A link that waits to be opened. The link itself is shown once."""

    id: int
    purpose: InvitationPurpose
    email: str
    name: str
    service: Flag
    grants: list[Grant]
    by: str
    created_at: datetime
    expires_at: datetime


class NewInvitation(Invitation):
    link: str = Field(description="Shown only once. Whoever opens it gets in.")
    mailed: Flag = Field(False, description="Whether a mail with the link was handed over for sending.")
    mail_fault: str | None = Field(None, description="Why it was not mailed, though mail was set up.")


class Token(Message):
    token: str = Field(max_length=200)


class LinkOffer(Answer):
    """What a link offers to who opens it."""

    purpose: InvitationPurpose
    email: str = Field(description="Empty when the person who opens the link enters their own address.")
    name: str
    service: Flag
    libraries: list[str] = Field(description="Their names.")
    expires_at: datetime


class Joining(Message):
    """Takes up an offer. ``email`` only where the offer's is empty."""

    token: str = Field(max_length=200)
    name: str = Field("", max_length=120)
    email: Email | None = None
    password: str = Field(max_length=1000)
    code: str | None = Field(None, max_length=40, description="Of an account with a second factor.")


class PasswordChange(Message):
    """Signs out everywhere else."""

    current: str = Field(max_length=1000)
    new: Password


class SignedIn(Answer):
    """A browser that is signed in."""

    id: int
    current: Flag
    created_at: datetime
    seen_at: datetime
    address: str
    browser: str


class PasswordOnly(Message):
    password: str = Field(max_length=1000)


class SecondFactorOffer(Answer):
    """RFC 6238, SHA-1, six digits, thirty seconds. In force once a code of it was told."""

    secret: str = Field(description="The secret in Base32, for typing in.")
    address: str = Field(description="An otpauth address.")
    image: str = Field(description="The same to be scanned, as SVG.")


class Code(Message):
    code: str = Field(max_length=40)


class RecoveryCodes(Answer):
    """Each signs in once, in the second factor's place. Shown this once."""

    codes: list[str]


class KeyRequest(Message):
    """A key for a machine. ``libraries`` null: all of them, also those to come; that, and ``service``, only
    who administers the service may give."""

    name: Name
    abilities: Abilities = Field(default_factory=lambda: [Ability.LOOK], min_length=1)
    libraries: list[LibrarySlug] | None = Field(None, max_length=500)
    service: Flag = Field(False, description="May administer the whole service.")
    days: Annotated[Whole, Field(ge=1, le=3650)] | None = Field(None, description="Null: it does not expire.")

    @model_validator(mode="after")
    def _fits(self) -> KeyRequest:
        if self.libraries is not None and len(set(self.libraries)) != len(self.libraries):
            raise ValueError("a library is named twice")
        if self.libraries is not None and not self.libraries:
            raise ValueError("name at least one library, or leave it out for all")
        if self.service and self.libraries is not None:
            raise ValueError("a key that administers the service is for all libraries")
        return self


class LibraryKeyRequest(Message):
    """A key for a machine, in one library."""

    name: Name
    abilities: Abilities = Field(default_factory=lambda: [Ability.LOOK], min_length=1)
    days: Annotated[Whole, Field(ge=1, le=3650)] | None = None


class Key(Answer):
    """A key for a machine. The key itself is shown only once, when it is made."""

    id: int
    name: str
    abilities: list[Ability]
    libraries: list[str] | None = Field(description="Null: all of them.")
    service: Flag
    hint: str = Field(description="Its last four characters.")
    by: str
    created_at: datetime
    expires_at: datetime | None = None
    last_used_at: datetime | None = None
    last_used_from: str | None = None
    replaces: int | None = Field(None, description="The key that it replaces.")


class NewKey(Key):
    secret: str


class Rotation(Message):
    """The former key goes on working for so long."""

    overlap_hours: Annotated[Whole, Field(ge=0, le=720)] = 24


class ActOutcome(StrEnum):
    DONE = "done"
    REFUSED = "refused"
    FAILED = "failed"


class AuditEntry(Answer):
    """One act: who did what to which library, when and from where."""

    id: int
    at: datetime
    actor: str = Field(description="A name; empty for a stranger.")
    kind: str = Field(description="person, key, service or stranger.")
    email: str | None = None
    address: str
    library: str | None = None
    act: str
    target: str
    outcome: ActOutcome
    detail: str = ""


class Setting(Answer):
    """One of the service's settings: its value, without passwords, and where that comes from."""

    name: str
    value: str
    origin: str = Field(description="A variable of the environment, a file, or default.")
    meaning: str


class Health(Answer):
    """Whether the service can do its work."""

    version: str
    database: Flag
    workers: int = Field(description="Worker processes heard from in the last few seconds.")


def _refuse_twice(grants: list[Grant]) -> None:
    if len({grant.library for grant in grants}) != len(grants):
        raise ValueError("a library is named twice")

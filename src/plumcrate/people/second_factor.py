"""The second factor: codes by time (RFC 6238: SHA-1, six digits, thirty seconds) and recovery codes.

A code is taken once: the time step of the last one is on record, and only later ones count. The secret is
sealed with the state folder's key.
"""

from __future__ import annotations

import hmac
import re
import secrets
import time
from io import BytesIO

import pyotp
import segno
from sqlalchemy import delete, func, update
from sqlalchemy.orm import Session

from plumcrate.contract.people import SecondFactorOffer
from plumcrate.keeping.sealing import Seal
from plumcrate.records.tables import Person, RecoveryCode
from plumcrate.refusal import Refusal

from .tokens import sha256

_ISSUER, _STEP, _CODES = "Plum Crate", 30, 10
#: Clocks of telephones may be so many steps away.
_LEEWAY = 1
#: The letters and digits of RFC 4648, section 6, that are read for no other.
_SIGNS = "ABCDEFGHJKLMNPQRSTUVWXYZ234567"


def offer(person: Person, seal: Seal) -> SecondFactorOffer:
    """A new secret, which counts once a code of it was told. Raises :class:`Refusal`."""
    if person.second_factor_since is not None:
        raise Refusal("second-factor-there", "remove the current second factor first")
    secret = pyotp.random_base32()
    person.second_factor = seal.close(secret.encode())
    address = pyotp.TOTP(secret).provisioning_uri(name=person.email, issuer_name=_ISSUER)
    drawn = BytesIO()
    segno.make(address, error="m").save(drawn, kind="svg", scale=4, border=2, xmldecl=False)
    return SecondFactorOffer(secret=secret, address=address, image=drawn.getvalue().decode())


def begin(session: Session, person: Person, seal: Seal, code: str) -> list[str]:
    """Puts an offered secret in force; answers the recovery codes. Raises :class:`Refusal`."""
    if person.second_factor is None or person.second_factor_since is not None:
        raise Refusal("second-factor-there", "ask for a new secret first")
    if not _take_digits(session, person, seal, code):
        raise Refusal(
            "wrong-code", "the code is wrong: enter the current one, and check that your clock is right"
        )
    person.second_factor_since = func.now()
    return new_recovery_codes(session, person)


def end(session: Session, person: Person) -> None:
    person.second_factor = person.second_factor_since = None
    session.execute(delete(RecoveryCode).where(RecoveryCode.person_id == person.id))


def new_recovery_codes(session: Session, person: Person) -> list[str]:
    """Ten of 78 bits each; former ones are worth nothing."""
    session.execute(delete(RecoveryCode).where(RecoveryCode.person_id == person.id))
    codes = [
        "-".join("".join(secrets.choice(_SIGNS) for _ in range(4)) for _ in range(4)) for _ in range(_CODES)
    ]
    session.add_all(RecoveryCode(person_id=person.id, code_sha256=sha256(code)) for code in codes)
    return codes


def take(session: Session, person: Person, seal: Seal, code: str) -> bool:
    """Whether a code is right; it is worth nothing from now on."""
    code = code.strip().upper().replace(" ", "")
    if re.fullmatch(r"[0-9]{6}", code):
        return _take_digits(session, person, seal, code)
    gone = session.execute(
        delete(RecoveryCode)
        .where(RecoveryCode.person_id == person.id, RecoveryCode.code_sha256 == sha256(code))
        .returning(RecoveryCode.person_id)
    ).first()
    return gone is not None


def _take_digits(session: Session, person: Person, seal: Seal, code: str) -> bool:
    totp = pyotp.TOTP(seal.open(person.second_factor or b"").decode())
    now = int(time.time()) // _STEP
    for step in range(now - _LEEWAY, now + _LEEWAY + 1):
        if hmac.compare_digest(totp.at(step * _STEP).encode(), code.strip().encode()):
            taken = session.execute(
                update(Person)
                .where(Person.id == person.id, Person.second_factor_step < step)
                .values(second_factor_step=step)
                .returning(Person.id)
                .execution_options(synchronize_session=False)
            ).first()
            return taken is not None
    return False

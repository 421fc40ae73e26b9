"""Mail with an invitation's link, where the operator said how mail is sent (RFC 5322; SMTP: RFC 5321)."""

from __future__ import annotations

import smtplib
import ssl
import subprocess
from dataclasses import dataclass
from email.errors import MessageError
from email.message import EmailMessage
from urllib.parse import unquote, urlsplit

import structlog

log = structlog.get_logger()

_SECONDS = 20


@dataclass(frozen=True, slots=True)
class Mailing:
    """``command`` is given the whole message, ``smtp`` is ``smtp://`` (STARTTLS where offered) or ``smtps://``
    with a user and password where they are needed; without both no mail is sent."""

    sender: str
    command: tuple[str, ...] = ()
    smtp: str | None = None

    @property
    def possible(self) -> bool:
        return bool(self.command or self.smtp)

    def send(self, to: str, subject: str, text: str) -> bool:
        """Whether the message was handed over. What goes wrong is logged: the link is shown anyway."""
        try:
            message = EmailMessage()
            message["From"], message["To"], message["Subject"] = self.sender, to, subject
            message.set_content(text)
            if self.command:
                subprocess.run(
                    self.command, input=message.as_bytes(), check=True, capture_output=True, timeout=_SECONDS
                )
            elif self.smtp:
                self._by_smtp(self.smtp, message)
            else:
                return False
        except (
            OSError,
            ValueError,
            MessageError,
            smtplib.SMTPException,
            subprocess.SubprocessError,
        ) as error:
            log.warning("a mail was not sent", reason=type(error).__name__)
            return False
        return True

    @staticmethod
    def _by_smtp(address: str, message: EmailMessage) -> None:
        parts = urlsplit(address)
        host, secure = parts.hostname or "localhost", ssl.create_default_context()
        if parts.scheme == "smtps":
            server: smtplib.SMTP = smtplib.SMTP_SSL(host, parts.port or 465, timeout=_SECONDS, context=secure)
        else:
            server = smtplib.SMTP(host, parts.port or 25, timeout=_SECONDS)
        with server:
            if parts.scheme != "smtps":
                server.ehlo()
                if server.has_extn("starttls"):
                    server.starttls(context=secure)
                elif parts.username:
                    raise ValueError("a password is not sent over a line that anybody can read")
            if parts.username:
                server.login(unquote(parts.username), unquote(parts.password or ""))
            server.send_message(message)

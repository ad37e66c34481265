"""Passwords of mail servers: asked for when they are needed, and kept nowhere by us."""

from __future__ import annotations

import os
import shlex
import subprocess

from barnacle.core.errors import MailError
from barnacle.jobs.desk.desk import Desk
from barnacle.net.server import Server


def mail_password(desk: Desk, server: Server) -> str | None:
    """From BARNACLE_MAIL_PASSWORD, the command in mail.password_command, or the system's keyring. Raises MailError."""
    if (given := os.environ.get("BARNACLE_MAIL_PASSWORD")) is not None:
        return given
    command = desk.setting("mail.password_command")
    if command:
        done = subprocess.run(shlex.split(command), capture_output=True, text=True, timeout=60, check=False)
        if done.returncode:
            raise MailError(f"The command in mail.password_command failed (exit {done.returncode}).")
        return done.stdout.rstrip("\r\n")
    import keyring
    import keyring.errors

    try:
        return keyring.get_password("barnacle-mail", f"{server.user}@{server.host}")
    except keyring.errors.KeyringError:
        return None

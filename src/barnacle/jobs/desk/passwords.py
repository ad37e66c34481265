"""Passwords of mail servers: where they come from when one is needed, and where they are kept."""

from __future__ import annotations

import os
import shlex
import stat
import subprocess
from collections.abc import MutableMapping
from contextlib import suppress
from pathlib import Path

from barnacle.core.errors import FileError, MailError
from barnacle.core.text import tidy, visible
from barnacle.core.typed import Any
from barnacle.files.atomic import replacing
from barnacle.jobs.desk.desk import Desk
from barnacle.net.server import Server, read_mailbox, read_server

# What the entries are called in the keyring; each is under USER@HOST.
_SERVICE = "barnacle-mail"
_COMMAND_SECONDS = 60


def command_setting(server: Server) -> str:
    """The setting with the command that prints the password of this server alone."""
    return "mail.mailbox_password_command" if server.kind == "imap" else "mail.password_command"


def mail_password(desk: Desk, server: Server) -> str | None:
    """The password for a mail server, or for a mailbox: one that is kept, or from whoever sits there; None where there
    is none. Raises MailError, FileError."""
    kept = kept_password(desk, server)
    if kept is None:
        kept = desk.secret(f"Password of {visible(server.user)} at {server.host}: ") or None
    return kept


def is_own(desk: Desk, server: Server, by_any_name: bool = False) -> bool:
    """Whether a server is the mail server or the mailbox of the settings and asks for the same user, or for whomever.
    Another one, such as that of an office one writes for, must not be shown what is meant for these."""
    own = [read_server(url) for url in (desk.setting("mail.server"),) if url]
    own += [read_mailbox(url) for url in (desk.setting("mail.mailbox"),) if url]
    return any(one.host == server.host and (by_any_name or one.user == server.user) for one in own)


def kept_password(desk: Desk, server: Server) -> str | None:
    """A password from the environment, the command of the settings, the keyring, or the file that `keep_in_file`
    writes; for a mailbox also from the command of the mail server. Of another server than those of the settings only
    from the keyring or the file. Raises MailError, FileError."""
    if not is_own(desk, server):
        return kept_under(desk, account(server))
    for name in ("BARNACLE_MAILBOX_PASSWORD",) * (server.kind == "imap") + ("BARNACLE_MAIL_PASSWORD",):
        if (given := os.environ.get(name)) is not None:
            return given
    own, general = command_setting(server), "mail.password_command"
    if command := desk.setting(own):
        return from_command(command, f"the command in {own}")
    kept = kept_under(desk, account(server))
    if kept is None and own != general and (command := desk.setting(general)):
        kept = from_command(command, f"the command in {general}")
    return kept


def kept_under(desk: Desk, name: str) -> str | None:
    """What the keyring has under a name, else the file. Raises MailError, FileError."""
    kept = _from_keyring(name)
    return kept if kept is not None else _from_file(desk, name)


def from_command(command: str, what: str) -> str:
    """What a command prints, which is a password. Raises MailError, naming the command as `what`."""
    try:
        words = shlex.split(command)
        done = subprocess.run(words, capture_output=True, timeout=_COMMAND_SECONDS, check=False)
    except ValueError:
        raise MailError(f"{_begin(what)} has a quote that is not closed: `{visible(command, 80)}`.") from None
    except (FileNotFoundError, IndexError):
        raise MailError(f"{_begin(what)} was not found: `{visible(command, 80)}`.") from None
    except OSError as error:
        raise MailError(f"{_begin(what)} cannot be run: {error.strerror}.") from None
    except subprocess.TimeoutExpired:
        raise MailError(f"{_begin(what)} gave no password within {_COMMAND_SECONDS} seconds.") from None
    if done.returncode:
        said = tidy(done.stderr.decode(errors="replace"), 120)
        raise MailError(f"{_begin(what)} failed (exit {done.returncode}){f': {said}' if said else ''}.")
    try:
        secret = done.stdout.decode().rstrip("\r\n")
    except UnicodeDecodeError:
        raise MailError(f"{_begin(what)} printed something that is not text.") from None
    if not secret:
        raise MailError(f"{_begin(what)} printed nothing.")
    return secret


def keep(desk: Desk, name: str, secret: str) -> str:
    """Keep a secret in the keyring, or where there is none in the file; returns where it is now, in words. Raises
    MailError, FileError."""
    if not has_keyring():
        return visible(str(keep_in_file(desk, name, secret)))
    keep_in_keyring(name, secret)
    forget_in_file(desk, name)
    return "your keyring"


def has_keyring() -> bool:
    """Whether this computer has a keyring that can keep something."""
    import keyring

    backend = keyring.get_keyring()
    return getattr(backend, "priority", 0) > 0 and not type(backend).__module__.endswith((".null", ".fail"))


def keep_in_keyring(name: str, secret: str) -> None:
    """Raises MailError where the keyring does not take it."""
    import keyring
    import keyring.errors

    try:
        keyring.set_password(_SERVICE, name, secret)
    except (keyring.errors.KeyringError, RuntimeError, OSError) as error:
        raise MailError(f"The keyring did not accept the password ({tidy(str(error), 120)}).") from error


def forget_in_keyring(name: str) -> None:
    """Take a password out of the keyring, if it is there."""
    import keyring
    import keyring.errors

    with suppress(keyring.errors.KeyringError, RuntimeError, OSError):
        keyring.delete_password(_SERVICE, name)


def keep_in_file(desk: Desk, name: str, secret: str) -> Path:
    """Keep a password in a file that its owner alone can read. Returns the file. Raises FileError."""
    document = _read(desk)
    document[name] = secret
    return _write(desk, document)


def forget_in_file(desk: Desk, name: str) -> None:
    """Take a password out of the file, if it is there. Raises FileError."""
    document = _read(desk)
    if document.pop(name, None) is not None:
        _write(desk, document)


def account(server: Server) -> str:
    """What a password is kept under."""
    return f"{server.user}@{server.host}"


def _from_keyring(name: str) -> str | None:
    import keyring
    import keyring.errors

    try:
        return keyring.get_password(_SERVICE, name)
    except (keyring.errors.KeyringError, RuntimeError, OSError):
        return None


def _from_file(desk: Desk, name: str) -> str | None:
    path = desk.passwords_path
    kept = _read(desk).get(name)
    if kept is not None and path.stat().st_mode & (stat.S_IRWXG | stat.S_IRWXO):
        raise MailError(
            f"Others can read your passwords in {visible(str(path))}. Make the file yours alone: chmod 600 "
            f"{shlex.quote(str(path))}"
        )
    return str(kept) if isinstance(kept, str) else None


def _read(desk: Desk) -> MutableMapping[str, Any]:
    path = desk.passwords_path
    try:
        if not path.exists():
            return {}
        import tomlkit  # it keeps what people write between

        return tomlkit.parse(path.read_text(encoding="utf-8"))
    except (OSError, ValueError) as error:
        raise FileError(f"The passwords in {visible(str(path))} cannot be read: {tidy(str(error), 120)}.") from error


def _write(desk: Desk, document: MutableMapping[str, Any]) -> Path:
    import tomlkit

    path = desk.passwords_path
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    begin = "" if path.exists() else "# Passwords of your mail, in clear. Nobody but you should be able to read this.\n"
    with replacing(path) as file:
        file.write(begin + tomlkit.dumps(document))
    return path


def _begin(what: str) -> str:
    return what[:1].upper() + what[1:]

"""Real servers from Debian's packages, each started on a free port in a folder of its own and stopped with the test."""

from __future__ import annotations

import os
import pwd
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from conftest import HANGS


def need(program: str, package: str) -> str:
    """Where a server's program is. Without it the test skips and says so; in CI a missing one fails."""
    found = shutil.which(program, path=f"{os.environ['PATH']}:/usr/sbin:/usr/lib/postgresql/15/bin")
    if found is None:
        reason = f"{program} is not installed (Debian's package {package})"
        if os.environ.get("CI") == "true":
            pytest.fail(reason)
        pytest.skip(reason)
    return found


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


@contextmanager
def open_folder() -> Iterator[Path]:
    """A folder which a server's own user may enter, as pytest's may not be."""
    folder = Path(tempfile.mkdtemp(prefix="barnacle-test-"))
    folder.chmod(0o755)
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def servant(name: str) -> str:
    """The user a server works as: root may not be one."""
    return name if os.getuid() == 0 else pwd.getpwuid(os.getuid()).pw_name


@contextmanager
def running(command: list[str], port: int, log: Path, stop: int = signal.SIGTERM) -> Iterator[None]:
    """A server in the foreground, from when it answers on its port."""
    with log.open("wb") as out:
        process = subprocess.Popen(command, stdout=out, stderr=out, stdin=subprocess.DEVNULL)
    try:
        wait(lambda: _answers(port), lambda: f"{command[0]} does not answer: {log.read_text(errors='replace')}")
        yield
    finally:
        process.send_signal(stop)
        try:
            process.wait(20)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


def wait(done: Callable[[], bool], trouble: Callable[[], str], seconds: float = HANGS) -> None:
    """Until it is done, looked at again and again."""
    end = time.monotonic() + seconds
    while not done():
        assert time.monotonic() < end, trouble()
        time.sleep(0.05)


def _answers(port: int) -> bool:
    with socket.socket() as one:
        return one.connect_ex(("127.0.0.1", port)) == 0


DOVECOT = """
base_dir = {folder}/run
state_dir = {folder}/state
log_path = {folder}/dovecot.log
protocols = imap
listen = 127.0.0.1
default_internal_user = {inner}
default_login_user = {login}
default_internal_group = {group}
ssl = {ssl}
ssl_cert = <{certificate}
ssl_key = <{certificate}
disable_plaintext_auth = no
mail_location = maildir:{folder}/mail/%u
passdb {{
  driver = static
  args = password=flood-gate
}}
userdb {{
  driver = static
  args = uid={uid} gid={gid} home={folder}/mail/%u
}}
first_valid_uid = 1
service anvil {{
  chroot =
}}
service stats {{
  chroot =
}}
service imap-login {{
  chroot =
  inet_listener imap {{
    port = {port}
  }}
  inet_listener imaps {{
    port = 0
  }}
}}
namespace inbox {{
  inbox = yes
  separator = /
  mailbox Entwürfe {{
    auto = create
    special_use = \\Drafts
  }}
}}
"""


@contextmanager
def imap_server(certificate: Path | None = None) -> Iterator[tuple[str, Path]]:
    """A mailbox server: its host and port, and the folder with each user's Maildir. Its folder for drafts has a name in
    another language; the password is `flood-gate`."""
    program = need("dovecot", "dovecot-imapd")
    with open_folder() as folder:
        port = free_port()
        owner = pwd.getpwnam(servant("nobody"))
        for name in ("mail", "run", "state"):
            (folder / name).mkdir()
        (folder / "mail").chmod(0o777)
        cert = folder / "certificate.pem"
        cert.write_bytes(certificate.read_bytes() if certificate else b"")
        config = DOVECOT.format(
            folder=folder, port=port, uid=owner.pw_uid, gid=owner.pw_gid, inner=servant("dovecot"),
            login=servant("dovenull"), group=_group("dovecot"), certificate=cert, ssl="yes" if certificate else "no",
        )  # fmt: skip
        if certificate is None:
            config = "\n".join(line for line in config.splitlines() if not line.startswith("ssl_"))
        path = folder / "dovecot.conf"
        path.write_text(config)
        with running([program, "-F", "-c", str(path)], port, folder / "out.log"):
            yield f"127.0.0.1:{port}", folder / "mail"


def _group(name: str) -> str:
    import grp

    return name if os.getuid() == 0 else grp.getgrgid(os.getgid()).gr_name


EXIM = """
primary_hostname = post.kelp.example
spool_directory = {folder}/spool
log_file_path = {folder}/log/%slog
pid_file_path = {folder}/exim.pid
exim_user = {user}
exim_group = {group}
never_users =
domainlist local_domains = kelp.example : tidewick.example
hostlist relay_from_hosts = 127.0.0.1
acl_smtp_rcpt = rcpt
host_lookup =
tls_advertise_hosts =
smtp_accept_max = 0
recipients_max = 20
message_size_limit = 1M
keep_environment =
begin acl
rcpt:
  deny   domains = ! +local_domains
         message = relay not permitted
  accept verify = recipient
  deny   message = no such person here
begin routers
people:
  driver = accept
  domains = +local_domains
  condition = ${{lookup{{$local_part@$domain}}lsearch{{{folder}/people}}{{yes}}{{no}}}}
  address_data = ${{lookup{{$local_part@$domain}}lsearch{{{folder}/people}}}}
  transport = maildir
begin transports
maildir:
  driver = appendfile
  maildir_format
  directory = {folder}/mail/$address_data
  delivery_date_add
  envelope_to_add
  return_path_add
  user = {user}
  group = {group}
begin retry
* * F,1h,1m
"""


@contextmanager
def mail_server(people: list[str]) -> Iterator[tuple[str, Path]]:
    """A mail server with a mailbox for each of these addresses: its URL, and the folder with a Maildir for each."""
    program = need("exim4", "exim4-daemon-light")
    with open_folder() as folder:
        user = servant("Debian-exim")
        owner = pwd.getpwnam(user)
        for name in ("spool", "log", "mail"):
            (folder / name).mkdir()
            if os.getuid() == 0:
                shutil.chown(folder / name, user)
        (folder / "people").write_text("".join(f"{one}: {one}\n" for one in people))
        path, port = folder / "exim.conf", free_port()
        path.write_text(EXIM.format(folder=folder, user=user, group=owner.pw_gid))
        path.chmod(0o644)
        command = [program, "-C", str(path), "-bdf", "-q1m", "-oX", f"127.0.0.1.{port}"]
        with running(command, port, folder / "out.log"):
            yield f"smtp://127.0.0.1:{port}", folder / "mail"

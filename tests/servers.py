"""Real servers from Debian's packages, each started on a free port in a folder of its own and stopped with the test."""

from __future__ import annotations

import os
import pwd
import re
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


def counted_as_spam(message: Path, home: Path) -> set[str]:
    """The rules by which SpamAssassin, asking nobody else, counts something against a message that has arrived."""
    command = [need("spamassassin", "spamassassin"), "--local", "--test-mode"]
    told = subprocess.run(
        command, input=message.read_bytes(), capture_output=True, check=True, env={**os.environ, "HOME": str(home)}
    )
    report = told.stdout.decode(errors="replace").partition("Content analysis details:")[2]
    assert "points" in report
    return set(re.findall(r"^ *[0-9]+\.[0-9] ([A-Z][A-Z0-9_]+)", report, re.M))


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


NGINX = """
daemon off; worker_processes 1; pid {folder}/pid; error_log {folder}/error.log;
events {{ worker_connections 512; }}
http {{
  access_log off; client_body_temp_path {folder}/body; proxy_temp_path {folder}/proxy;
  fastcgi_temp_path {folder}/f; uwsgi_temp_path {folder}/u; scgi_temp_path {folder}/s;
  upstream hub {{ {upstream} }}
  server {{
    listen 127.0.0.1:{port} ssl; server_name localhost;
    ssl_certificate {cert}; ssl_certificate_key {key};
    location /lists/ {{
      proxy_pass http://hub; proxy_set_header Host $host; proxy_set_header X-Forwarded-For $remote_addr;
      proxy_set_header X-Forwarded-Proto https;
    }}
    location = /.well-known/carddav {{ return 301 /lists/dav/; }}
  }}
}}
"""


@contextmanager
def nginx(ports: list[int], cert: Path, key: Path) -> Iterator[str]:
    """A proxy that does TLS before some servers, below a path, with its usual limits; the URL."""
    program = need("nginx", "nginx-light")
    with open_folder() as folder:
        port = free_port()
        upstream = " ".join(f"server 127.0.0.1:{one};" for one in ports)
        conf = folder / "nginx.conf"
        conf.write_text(NGINX.format(folder=folder, upstream=upstream, port=port, cert=cert, key=key))
        with running([program, "-p", str(folder), "-c", str(conf)], port, folder / "log"):
            yield f"https://localhost:{port}/lists/"


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
{passdb}
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
{folders}
}}
{more}
"""
_FOLDERS = """
  separator = /
  mailbox Entwürfe {
    auto = create
    special_use = \\Drafts
  }
  mailbox Gesendet {
    auto = create
    special_use = \\Sent
  }
"""
# As other servers have it: all below INBOX, parted by dots, and nothing said of what a folder is for.
BELOW_INBOX = """
  prefix = INBOX.
  separator = .
  mailbox Entwürfe {
    auto = create
  }
  mailbox Verzonden {
    auto = create
  }
"""
_PASSWORD = """
passdb {
  driver = static
  args = password=flood-gate
}
"""
_TOKENS = """
auth_mechanisms = oauthbearer xoauth2
passdb {{
  driver = oauth2
  mechanisms = oauthbearer xoauth2
  args = {folder}/oauth2.conf
}}
service auth {{
  inet_listener sasl {{
    port = {port}
  }}
}}
"""
_KNOWN_AT = """
introspection_mode = post
introspection_url = {url}
username_attribute = username
active_attribute = active
active_value = true
"""


@contextmanager
def imap_server(
    certificate: Path | None = None, tokens: str = "", sasl_port: int = 0, more: str = "", folders: str = _FOLDERS
) -> Iterator[tuple[str, Path]]:
    """A mailbox server: its host and port, and the folder with each user's Maildir. Its folders for drafts and sent mail
    have names in another language; the password is `flood-gate`. With `tokens`, a page that knows which of them hold, it
    takes those alone, also for another server that asks on `sasl_port`."""
    program = need("dovecot", "dovecot-imapd")
    with open_folder() as folder:
        port = free_port()
        owner = pwd.getpwnam(servant("nobody"))
        for name in ("mail", "run", "state"):
            (folder / name).mkdir()
        (folder / "mail").chmod(0o777)
        cert = folder / "certificate.pem"
        cert.write_bytes(certificate.read_bytes() if certificate else b"")
        (folder / "oauth2.conf").write_text(_KNOWN_AT.format(url=tokens))
        passdb = _TOKENS.format(folder=folder, port=sasl_port) if tokens else _PASSWORD
        config = DOVECOT.format(
            passdb=passdb, more=more, folders=folders,
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
acl_smtp_data = data
host_lookup =
tls_advertise_hosts =
smtp_accept_max = 0
recipients_max = {most}
recipients_max_reject = {reject}
message_size_limit = 1M
keep_environment =
begin acl
rcpt:
  accept domains = {domains}
  deny   domains = ! +local_domains
         message = relay not permitted
{verify}
  deny   message = no such person here
data:
{data}
  accept
begin routers
{router}
people:
  driver = accept
  domains = +local_domains
  condition = ${{lookup{{$local_part@$domain}}lsearch{{{folder}/people}}{{yes}}{{no}}}}
  address_data = ${{lookup{{$local_part@$domain}}lsearch{{{folder}/people}}}}
  transport = maildir
begin transports
{transport}
maildir:
  driver = appendfile
  maildir_format
  quota = {quota}
  directory = {folder}/mail/$address_data
  delivery_date_add
  envelope_to_add
  return_path_add
  user = {user}
  group = {group}
begin retry
* timeout F,1h,1m
"""


@contextmanager
def mail_server(
    people: list[str],
    most: int = 20,
    reject: bool = False,
    verify: bool = True,
    quota: str = "10M",
    domains: str = "",
    data: str = "",
    router: str = "",
    transport: str = "",
) -> Iterator[tuple[str, Path]]:
    """A mail server with a mailbox for each of these addresses: its URL, and the folder with a Maildir for each. Of more
    than `most` recipients it puts off the rest, or refuses everything; unless it is to `verify` them, it takes anybody
    and returns the mail, as it does where a mailbox is beyond its `quota`."""
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
        path.write_text(
            EXIM.format(
                folder=folder,
                user=user,
                group=owner.pw_gid,
                most=most,
                reject=str(reject).lower(),
                verify="  accept verify = recipient" if verify else "  accept",
                quota=quota,
                domains=domains,
                data=data,
                router=router,
                transport=transport,
            )
        )
        path.chmod(0o644)
        command = [program, "-C", str(path), "-bdf", "-q1m", "-oX", f"127.0.0.1.{port}"]
        with running(command, port, folder / "out.log"):
            yield f"smtp://127.0.0.1:{port}", folder / "mail"


POSTFIX = """
compatibility_level = 3.6
queue_directory = {folder}/queue
data_directory = {folder}/data
command_directory = {root}/usr/sbin
daemon_directory = {root}/usr/lib/postfix/sbin
shlib_directory = {root}/usr/lib/postfix
mail_owner = {owner}
setgid_group = {group}
import_environment = MAIL_CONFIG LD_LIBRARY_PATH={root}/usr/lib/postfix
maillog_file = {folder}/postfix.log
maillog_file_prefixes = {folder}
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
myhostname = post.kelp.example
mydestination =
mynetworks = 127.0.0.0/8
alias_maps =
virtual_mailbox_domains = kelp.example, tidewick.example
virtual_mailbox_base = {folder}/mail
virtual_mailbox_maps = texthash:{folder}/people
virtual_uid_maps = static:{uid}
virtual_gid_maps = static:{gid}
virtual_minimum_uid = 1
anvil_rate_time_unit = {unit}s
anvil_status_update_time = 1s
smtpd_client_event_limit_exceptions =
smtpd_error_sleep_time = 0
smtpd_hard_error_limit = 10
bounce_queue_lifetime = 0
maximal_queue_lifetime = 0
{more}
"""
_SERVICES = """
127.0.0.1:{port} inet n - n - - smtpd
cleanup unix n - n - 0 cleanup
qmgr unix n - n 300 1 qmgr
rewrite unix - - n - - trivial-rewrite
bounce unix - - n - 0 bounce
defer unix - - n - 0 bounce
trace unix - - n - 0 bounce
verify unix - - n - 1 verify
flush unix n - n 1000? 0 flush
proxymap unix - - n - - proxymap
smtp unix - - n - - smtp
error unix - - n - - error
retry unix - - n - - error
virtual unix - n n - - virtual
anvil unix - - n - 1 anvil
postlog unix-dgram n - n - 1 postlogd
"""


@contextmanager
def postfix(
    people: list[str], unit: int = 60, services: str = "", mail: Path | None = None, **settings: str
) -> Iterator[tuple[str, Path]]:
    """The other mail server, with those limits: its URL, and the folder with a Maildir for each of these addresses. Its
    package and that of `mail_server` exclude each other, so it is unpacked into the folder POSTFIX_ROOT, and run there."""
    root = os.environ.get("POSTFIX_ROOT", "/opt/barnacle-postfix")
    program = need(f"{root}/usr/lib/postfix/sbin/master", "postfix, unpacked into the folder POSTFIX_ROOT")
    if os.getuid() != 0:
        pytest.skip("only root can start this server")
    owner, group = pwd.getpwnam("uucp"), "news"  # users that nobody else works as
    with open_folder() as folder:
        for name in ("conf", "queue", "data", "mail"):
            (folder / name).mkdir()
        shutil.chown(folder / "data", "uucp")
        for name in (
            "active bounce corrupt defer deferred flush hold incoming maildrop pid private public saved trace"
        ).split():
            (folder / "queue" / name).mkdir()
            if name != "pid":
                shutil.chown(folder / "queue" / name, "uucp")
        shutil.chown(folder / "mail", "uucp", "uucp")
        uid, gid = owner.pw_uid, owner.pw_gid
        if mail is not None:
            uid, gid = (pwd.getpwnam("nobody").pw_uid, pwd.getpwnam("nobody").pw_gid)
            settings["virtual_mailbox_base"] = str(mail)
        (folder / "people").write_text("".join(f"{one} {one}/\n" for one in people))
        port = free_port()
        more = "\n".join(f"{key} = {value}" for key, value in settings.items()).replace("FOLDER", str(folder))
        config = POSTFIX.format(folder=folder, root=root, owner="uucp", group=group, uid=uid, gid=gid,
                                unit=unit, more=more)  # fmt: skip
        (folder / "conf" / "main.cf").write_text(config)
        (folder / "conf" / "master.cf").write_text(_SERVICES.format(port=port) + services)
        os.environ["LD_LIBRARY_PATH"] = f"{root}/usr/lib/postfix"
        try:
            with running([program, "-d", "-c", str(folder / "conf")], port, folder / "out.log"):
                yield f"smtp://127.0.0.1:{port}", folder / "mail"
        finally:
            del os.environ["LD_LIBRARY_PATH"]


SLAPD = """
include {schema}/core.schema
include {schema}/cosine.schema
include {schema}/inetorgperson.schema
pidfile {folder}/slapd.pid
modulepath {modules}
moduleload back_mdb
sizelimit {size}
TLSCACertificateFile {authority}
TLSCertificateFile {certificate}
TLSCertificateKeyFile {certificate}
database mdb
suffix "dc=tidewick,dc=example"
rootdn "cn=admin,dc=tidewick,dc=example"
rootpw flood-gate
directory {folder}/data
access to attrs=userPassword by anonymous auth by * none
access to dn.subtree="ou=closed,dc=tidewick,dc=example" by users read by * none
access to * by * read
"""
BASE = """dn: dc=tidewick,dc=example
objectClass: dcObject
objectClass: organization
dc: tidewick
o: Tidewick Harbour Trust

dn: ou=people,dc=tidewick,dc=example
objectClass: organizationalUnit
ou: people

"""


class Slapd:
    """A running directory: its place without encryption and with it, and a way to change it as whoever runs it does."""

    def __init__(self, plain: str, secure: str, local: str) -> None:
        self.plain, self.secure, self.local = plain, secure, local

    def change(self, ldif: str) -> None:
        command = ["ldapmodify", "-x", "-H", self.plain, "-D", "cn=admin,dc=tidewick,dc=example", "-w", "flood-gate"]
        done = subprocess.run(command, input=ldif.encode(), capture_output=True, check=False)
        assert done.returncode == 0, done.stderr.decode()


@contextmanager
def directory(entries: str, certificate: Path, authority: Path, size: int = 500) -> Iterator[Slapd]:
    """A directory of the made-up harbour with these entries (LDIF) below ou=people."""
    program, add = need("slapd", "slapd"), need("slapadd", "slapd")
    need("ldapmodify", "ldap-utils")
    with open_folder() as folder:
        (folder / "data").mkdir()
        config = folder / "slapd.conf"
        config.write_text(SLAPD.format(folder=folder, schema="/etc/ldap/schema", modules="/usr/lib/ldap", size=size,
                                       certificate=certificate, authority=authority))  # fmt: skip
        (folder / "entries.ldif").write_text(BASE + entries)
        loaded = subprocess.run(
            [add, "-f", str(config), "-l", str(folder / "entries.ldif")], capture_output=True, check=False
        )
        assert loaded.returncode == 0, loaded.stderr.decode()
        plain, secure = free_port(), free_port()
        local = f"ldapi://{str(folder / 'socket').replace('/', '%2F')}/"
        urls = f"ldap://127.0.0.1:{plain}/", f"ldaps://localhost:{secure}/", local
        command = [program, "-f", str(config), "-h", " ".join(urls), "-d", "0"]
        with running(command, plain, folder / "out.log"):
            yield Slapd(*urls)

"""A mail server that answers by a script of our own, line for line."""

from __future__ import annotations

import socket
import threading
from contextlib import suppress

Answer = str | None  # None breaks the line

GREETING = {"": "220 faulty.example ESMTP", "EHLO": "250-faulty.example\r\n250 SIZE 100000", "QUIT": "221 bye"}
WELL = {**GREETING, "MAIL": "250 ok", "RCPT": "250 ok", "DATA": "354 go on", ".": "250 kept", "RSET": "250 ok"}


AHEAD: dict[str, list[Answer]] = {"EHLO": ["250-faulty.example\r\n250-PIPELINING\r\n250 SIZE 100000"]}


class Faulty:
    """Serves any number of connections. `script` maps a command (or a whole line) to the answers
    to give in turn; the last one stays. An empty answer says nothing. After so many messages `a_line` the next is put
    off with `enough` until there is a new one."""

    def __init__(self, script: dict[str, list[Answer]], a_line: int = 0, enough: str = "") -> None:
        self.a_line, self.enough = a_line, enough
        self.script = {key: list(answers) for key, answers in script.items()}
        self.messages: list[tuple[list[str], bytes]] = []
        self.lines: list[str] = []
        self.socket = socket.create_server(("127.0.0.1", 0))
        self.url = f"smtp://127.0.0.1:{self.socket.getsockname()[1]}"
        self.thread = threading.Thread(target=self._serve, daemon=True)
        self.thread.start()

    def _serve(self) -> None:
        while True:
            try:
                connection, _ = self.socket.accept()
            except OSError:
                return
            threading.Thread(target=self._one, args=[connection], daemon=True).start()

    def _one(self, connection: socket.socket) -> None:
        with suppress(OSError), connection, connection.makefile("rwb") as line:
            self._converse(line)

    def _answer(self, line: str) -> Answer:
        for key in (line, line.split(" ", 1)[0].split(":", 1)[0].upper()):
            if key in self.script:
                answers = self.script[key]
                return answers.pop(0) if len(answers) > 1 else answers[0]
        return WELL.get(line.split(" ", 1)[0].upper(), "250 ok")

    def _say(self, line: object, answer: Answer) -> bool:
        if answer is None:
            return False
        if answer:
            line.write(answer.encode("utf-8") + b"\r\n")  # type: ignore[attr-defined]
            line.flush()  # type: ignore[attr-defined]
        return True

    def _converse(self, line: object) -> None:
        recipients: list[str] = []
        carried = 0
        if not self._say(line, self._answer("")):
            return
        for raw in line:  # type: ignore[attr-defined]
            text = raw.decode("utf-8", "replace").strip()
            command, blank, rest = text.partition(" ")
            text = command.upper() + blank + rest
            self.lines.append(text)
            worn = self.a_line and carried >= self.a_line and text.startswith("MAIL")
            answer = self.enough if worn else self._answer(text)
            if not self._say(line, answer):
                return
            if text.startswith("RCPT") and str(answer).startswith("250"):
                recipients.append(text[9:-1])
            if text == "DATA" and str(answer).startswith("354"):
                content = b""
                while not content.endswith(b"\r\n.\r\n"):
                    more = line.readline()  # type: ignore[attr-defined]
                    if not more:
                        return  # the client has gone in the middle
                    content += more
                answer = self._answer(".")
                if str(answer).startswith("250"):
                    self.messages.append((recipients, content))
                    carried += 1
                if not self._say(line, answer):
                    return
            if text.startswith(("RSET", "MAIL")):
                recipients = []
            if str(answer).startswith(("421", "221")):
                return

    def stop(self) -> None:
        self.socket.close()

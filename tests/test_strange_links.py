"""Links at the rim: floods, lines without an end, topics and hosts that cannot be, passwords, and who announces stand-ins."""

from __future__ import annotations

import json
import os
import resource
import shutil
import socket
import sqlite3
import stat
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from urllib.parse import quote

import keyring
import paho.mqtt.client as mqtt
import pytest
from hypothesis import given
from hypothesis import strategies as st
from keyring.backend import KeyringBackend

from common_bench.lesson.exporting import export_all
from common_bench.lesson.lesson import OpenLesson
from common_bench.links.address import read_address
from common_bench.links.discovery import notices
from common_bench.links.link import MOST_PER_SECOND
from common_bench.links.opening import open_link
from common_bench.links.secrets import Secrets
from common_bench.model.bench import Port
from common_bench.model.plan import Plan
from common_bench.model.trouble import LinkTrouble
from common_bench.standins.control import StandInProcess

WORD = st.text(st.characters(min_codepoint=33, max_codepoint=0x2FF), min_size=1, max_size=20)


@given(WORD, WORD, WORD, st.sampled_from(["host", "[::1]", "10.0.0.7"]))
def test_a_link_survives_being_written_and_read_whatever_is_in_it(user: str, topic_back: str, file: str, host: str) -> None:  # fmt: skip
    address = read_address(f"mqtt://{host}/lab/+?user={quote(user)}&send={quote(topic_back)}&password=x")
    again = read_address(address.text)
    assert (again.host, again.setting("user"), again.setting("send")) == (address.host, user, topic_back)
    assert again.setting("password") == "", "a password is not part of what is written"
    assert read_address(read_address(f"file:{quote('/' + file)}").text).path == "/" + file


@pytest.mark.parametrize("link", ["mqtt://h/a/#/b", "mqtt://h/a+/b", "mqtt://h/##", "mqtt://h/a#", "tcp://::1:5", "tcp://[::1]", "tcp://h:99999", "rfc2217://:4"])  # fmt: skip
def test_an_address_that_cannot_be_is_a_sentence(link: str) -> None:
    with pytest.raises(LinkTrouble) as refused:
        read_address(link)
    assert refused.value.code in ("topic-impossible", "address-not-whole")
    assert refused.value.sentence


def told_by(link: str, within: float = 8.0) -> LinkTrouble:
    """What a link that cannot be reached says."""
    opened = open_link(read_address(link))
    until = time.monotonic() + within
    try:
        while time.monotonic() < until:
            opened.read()
            time.sleep(0.02)
    except LinkTrouble as trouble:
        return trouble
    finally:
        opened.close()
    pytest.fail("nothing was told")


@pytest.mark.parametrize("link", ["tcp://[::1]:1", "rfc2217://[::1]:1", "tcp://no-such-host.invalid:7", "mqtt://" + "x" * 80 + "." + "y" * 80 + "/t", "tcp://a..b:7"])  # fmt: skip
def test_a_host_that_is_none_is_told_with_why(link: str) -> None:
    trouble = told_by(link)
    assert trouble.code == "no-host"
    assert trouble.fields["why"]


@pytest.fixture
def flooding() -> Iterator[int]:
    """A host that sends as much as it can, with telnet's own bytes among it as RFC 2217 allows; its port."""
    server = socket.create_server(("127.0.0.1", 0))
    going = threading.Event()

    def flood(caller: socket.socket) -> None:
        data = b"1;2;3\n" * 10_000
        with caller:
            while not going.is_set():
                try:
                    caller.sendall(data)
                except OSError:
                    return

    def serve() -> None:
        while not going.is_set():
            try:
                caller, _ = server.accept()
            except OSError:
                return
            threading.Thread(target=flood, args=(caller,), daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()
    yield server.getsockname()[1]
    going.set()
    server.close()


def memory() -> int:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024


def drained(link: str, seconds: float) -> tuple[int, set[str], int]:
    """Reads a link as the engine does: bytes that came, what was told, and by how many bytes the memory grew."""
    opened = open_link(read_address(link))
    began, bytes_, told, before = time.monotonic(), 0, set(), memory()
    try:
        while time.monotonic() - began < seconds:
            bytes_ += len(opened.read())
            warning = getattr(opened, "warning", None)
            told |= {warning.code} if warning is not None else set()
            time.sleep(0.002)
    finally:
        opened.close()
    return bytes_, told, memory() - before


@pytest.mark.parametrize("form", ["tcp://127.0.0.1:{}", "file:{}?rate=1000000"])
def test_a_flood_is_held_back_told_and_fills_no_memory(flooding: int, tmp_path: Path, form: str) -> None:
    endless = tmp_path / "endless"
    endless.write_bytes(b"7" * 60_000_000)  # one line
    bytes_, told, grown = drained(form.format(flooding if "tcp" in form else endless), 4.0)
    assert 0 < bytes_ < 4.0 * MOST_PER_SECOND * 1.6 + 2_000_000
    assert told == {"flood"}
    assert grown < 60_000_000


def test_a_port_behind_rfc_2217_is_held_back_too(stand_ins: Callable[..., StandInProcess]) -> None:  # fmt: skip
    kits = stand_ins("--over", "rfc2217", "--rate", "2000", count=1)
    link = next(port.link for port in kits.notice.ports)
    bytes_, _, grown = drained(link, 3.0)
    assert bytes_ > 0
    assert grown < 60_000_000


# passwords


class Drawer(KeyringBackend):
    """A secret service that holds what it is given."""

    priority = 1

    def __init__(self) -> None:
        self.held: dict[tuple[str, str], str] = {}

    def set_password(self, service: str, username: str, password: str) -> None:
        self.held[service, username] = password

    def get_password(self, service: str, username: str) -> str | None:
        return self.held.get((service, username))

    def delete_password(self, service: str, username: str) -> None:
        self.held.pop((service, username), None)


@pytest.fixture
def drawer() -> Iterator[Drawer]:
    before, made = keyring.get_keyring(), Drawer()
    keyring.set_keyring(made)
    yield made
    keyring.set_keyring(before)


def test_a_password_goes_to_the_secret_service_and_never_into_the_book(drawer: Drawer, tmp_path: Path) -> None:
    book = tmp_path / "a.benchbook"
    lesson = OpenLesson.make(book, Plan("p"), "9B", ["Basalt"])
    link = "mqtt://127.0.0.1:1/lab/+?user=kim&password=open%20sesame%26"
    kit = lesson.roster.hear(Port(link, "broker", "b"), added=True)
    lesson.roster.set_link(kit, "mqtt://127.0.0.1:1/lab/+?user=kim&password=other")
    assert drawer.held == {("common-bench", "kim@127.0.0.1:1"): "other"}
    files = export_all(lesson, tmp_path / "out").files
    lesson.close()
    whole = book.read_bytes() + b"".join(path.read_bytes() for path in files)
    assert b"sesame" not in whole
    assert b"other" not in whole
    assert stat.S_IMODE(book.stat().st_mode) == 0o600
    modes = {path.name: stat.S_IMODE(path.stat().st_mode) for path in files}
    assert modes["plan.toml"] == 0o600
    assert modes["findings.csv"] != 0o600, "findings alone are for everybody"
    again = read_address("mqtt://127.0.0.1:1/lab/+?user=kim")
    assert Secrets().filled(again).setting("password") == "other"


def test_without_a_secret_service_a_password_lasts_as_long_as_the_program() -> None:
    secrets = Secrets()
    typed = read_address("mqtt://127.0.0.1:1/lab/+?user=sam&password=word")
    assert secrets.filled(typed).setting("password") == "word"
    assert secrets.filled(read_address(typed.text)).setting("password") == "word"
    assert read_address(typed.text).setting("password") == ""


def test_an_old_books_passwords_are_taken_out(drawer: Drawer, tmp_path: Path) -> None:
    book = tmp_path / "a.benchbook"
    lesson = OpenLesson.make(book, Plan("p"), "9B", ["Basalt"])
    lesson.close()
    connection = sqlite3.connect(book)
    connection.execute("INSERT INTO kit (identity, name, link) VALUES ('b', 'b', 'mqtt://h/t?user=lee&password=hush')")
    connection.commit()
    connection.close()
    OpenLesson.open(book).close()
    connection = sqlite3.connect(book)
    assert connection.execute("SELECT link FROM kit").fetchall() == [("mqtt://h/t?user=lee",)]
    connection.close()
    assert drawer.held["common-bench", "lee@h:1883"] == "hush"


# who announces stand-ins


def test_links_are_only_followed_from_a_folder_of_ones_own_that_is_closed_to_others(tmp_path: Path) -> None:
    folder = tmp_path / "ports"
    folder.mkdir(mode=0o700)
    with StandInProcess(folder, count=1) as kits:
        assert len(notices(folder)) == 1
        folder.chmod(0o777)
        assert notices(folder) == []
        folder.chmod(0o700)
        assert len(notices(folder)) == 1
        aside = tmp_path / "link"
        aside.symlink_to(folder)
        assert notices(aside) == [], "a link to a folder is none of one's own"
        assert kits.order(ask="state")["ok"]
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as line:
            line.connect(kits.notice.control)
            line.sendall(b"[" * 100_000 + b"\n" + b'{"kits":' + b"{}" * 9 + b"\n" + b"\xff\xfe\n")
            answer = json.loads(line.makefile().readline())
        assert answer["ok"] is False
        assert kits.order(ask="state")["ok"], "it goes on"
    if os.getuid() == 0:
        os.chown(folder, 65_534, -1)
        (folder / "class-1.json").write_bytes(b"{}")
        assert notices(folder) == []


# brokers


@pytest.fixture
def guarded_broker(tmp_path: Path) -> Iterator[str]:
    """A real broker that lets kim in, who says `word`."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    names, setting = tmp_path / "names", tmp_path / "broker.conf"
    subprocess.run(["mosquitto_passwd", "-b", "-c", str(names), "kim", "word"], check=True, capture_output=True)
    setting.write_text(f"user root\nlistener {port} 127.0.0.1\nallow_anonymous false\npassword_file {names}\n")
    process = subprocess.Popen([shutil.which("mosquitto") or "/usr/sbin/mosquitto", "-c", str(setting)], stderr=subprocess.DEVNULL)  # fmt: skip
    until = time.monotonic() + 10
    while time.monotonic() < until:
        with socket.socket() as line:
            if line.connect_ex(("127.0.0.1", port)) == 0:
                break
        time.sleep(0.05)
    yield f"127.0.0.1:{port}"
    process.kill()
    process.wait()


def test_a_broker_that_wants_a_password_says_so_and_leaves_out_what_is_too_large(guarded_broker: str) -> None:
    for wrong in ("", "?user=kim&password=other"):
        assert told_by(f"mqtt://{guarded_broker}/lab/+{wrong}").code == "password-wanted"
    opened = open_link(read_address(f"mqtt://{guarded_broker}/lab/+?user=kim&password=word"))
    host, _, port = guarded_broker.partition(":")
    sender = mqtt.Client(mqtt.CallbackAPIVersion.VERSION2)
    sender.username_pw_set("kim", "word")
    sender.connect(host, int(port))
    sender.loop_start()
    heard, until = b"", time.monotonic() + 20
    try:
        while time.monotonic() < until and not (b"21.5" in heard and opened.warning is not None):
            sender.publish("lab/a", b"x" * 200_000)
            sender.publish("lab/a", b"21.5")
            time.sleep(0.05)
            heard += opened.read()
        assert b"@a\t21.5\n" in heard
        assert b"xxx" not in heard
        assert opened.warning is not None
        assert opened.warning.code == "payload-too-large"
    finally:
        sender.loop_stop()
        opened.close()

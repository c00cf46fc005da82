"""What is plugged in: the system's serial ports, and the stand-ins that announce themselves in the ports folder."""

from __future__ import annotations

import os
import stat
from pathlib import Path

import msgspec
import platformdirs

from common_bench.links.address import read_address
from common_bench.links.causes import trouble
from common_bench.model.bench import Port, StandInNotice
from common_bench.model.trouble import LinkTrouble

FOLDER_SETTING = "COMMON_BENCH_PORTS"
OTHERS_WRITE = stat.S_IWGRP | stat.S_IWOTH


def ports_folder() -> Path:
    """Where stand-in classes announce their kits (the setting COMMON_BENCH_PORTS names another)."""
    named = os.environ.get(FOLDER_SETTING)
    if named:
        return Path(named)
    if not os.environ.get("XDG_RUNTIME_DIR"):
        return Path(f"/tmp/common-bench-{os.getuid()}/ports")
    return Path(platformdirs.user_runtime_dir("common-bench")) / "ports"


def notices(folder: Path | None = None) -> list[StandInNotice]:
    """The stand-in classes that are running."""
    found: list[StandInNotice] = []
    place = folder or ports_folder()
    if not _is_our_own(place):
        return found
    for path in sorted(place.glob("class-*.json")):
        try:
            if path.lstat().st_uid != os.getuid():
                continue
            notice = msgspec.json.decode(path.read_bytes(), type=StandInNotice)
        except (OSError, msgspec.DecodeError):
            continue
        if _running(notice.process):
            found.append(notice)
    return found


def all_notices() -> list[StandInNotice]:
    """The stand-in classes that are running, those of demos too."""
    place = ports_folder()
    folders = [place, *(each for each in sorted(place.glob("demo-*")) if each.is_dir())]
    return [notice for folder in folders for notice in notices(folder)]


def _running(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def _is_our_own(folder: Path) -> bool:
    """Whether a folder belongs to this user and is closed to others, as is the one that holds it where that is made for
    it: else what is announced there may be anybody's."""
    places = [folder, folder.parent] if folder.parent.name.startswith("common-bench-") else [folder]
    try:
        found = [place.lstat() for place in places]
    except OSError:
        return False
    return all(
        each.st_uid == os.getuid() and stat.S_ISDIR(each.st_mode) and not each.st_mode & OTHERS_WRITE for each in found
    )


def plugged_in(folder: Path | None = None) -> list[Port]:
    """Everything that is plugged in, in a steady order, each with what is wrong with it."""
    from serial.tools import list_ports

    found = [port for notice in notices(folder) for port in notice.ports]
    for device in list_ports.comports():
        bluetooth = "rfcomm" in device.device
        if device.hwid in ("n/a", None, "") and not bluetooth:
            continue  # a built-in port with nothing on it
        place = f"usb {device.location}" if device.location else Path(device.device).name
        place = f"bluetooth serial {place.removeprefix('rfcomm')}" if bluetooth else place
        found.append(
            Port(
                device.device, place, device.serial_number or device.location or device.device, device.description or ""
            )
        )
    return [_judged(port) for port in found]


def _judged(port: Port) -> Port:
    if read_address(port.link).kind != "serial":
        return port
    fault = what_is_wrong(port.link)
    if fault is None:
        return port
    return Port(
        port.link, port.name, port.identity, port.description, fault.sentence, fault.code, port.stand_in, port.speed
    )


def what_is_wrong(link: str) -> LinkTrouble | None:
    """What keeps a port from being opened, as far as can be seen without opening it; None where nothing does."""
    path = Path(link.partition("?")[0])
    if not path.exists():
        return trouble("missing", str(path), others=_others(path))
    if not stat.S_ISCHR(path.stat().st_mode):
        return trouble("no-port", str(path), others=_others(path))
    if not os.access(path, os.R_OK | os.W_OK):
        return trouble("not-allowed", str(path), command=permission_command(path))
    return None


def permission_command(path: Path) -> str:
    """The exact command that lets this person open the port from the next login on."""
    import grp
    import pwd

    user = pwd.getpwuid(os.getuid()).pw_name
    try:
        group = grp.getgrgid(path.stat().st_gid).gr_name
    except KeyError:
        group = "dialout"
    return f"sudo usermod -aG {group} {user} (then log out and in)"


def _others(missing: Path) -> str:
    from serial.tools import list_ports

    there = [each.device for each in list_ports.comports() if each.hwid not in ("n/a", None, "")]
    there += [port.link for notice in notices() for port in notice.ports]
    there = [each for each in there if each != str(missing)]
    return f" Plugged in now: {', '.join(there[:8])}." if there else " Check how its address is written."


def holder_of(path: Path) -> str:
    """`(process 4120, NAME)` of who else has the port open, as far as this person may see; else ''."""
    try:
        real = os.path.realpath(path)
        for process in Path("/proc").iterdir():
            if not process.name.isdigit() or int(process.name) == os.getpid():
                continue
            try:
                if any(os.readlink(each) == real for each in (process / "fd").iterdir()):
                    name = (process / "comm").read_text().strip()
                    return f" (process {process.name}, {name})"
            except OSError:
                continue
    except OSError:
        pass
    return ""

"""The servers of the tests end with the tests, however those end."""

import os
import signal
import subprocess
import sys
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import pytest

from conftest import wait_for

ROOT = Path(__file__).parent.parent


@pytest.mark.long
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGKILL])
@pytest.mark.parametrize(("name", "place"), [("postgresql", "host"), ("mariadb", "unix_socket")])
def test_no_server_of_the_tests_stays_behind(tmp_path, name, place, number):
    """Without xdist, too."""
    words = ["-p", "no:xdist", "-m", "", f"--basetemp={tmp_path / 'base'}", f"tests/targets/test_{name[:8]}.py"]
    variables = {key: value for key, value in os.environ.items() if not key.startswith(("PYTEST_", "TIDYMERGE_LONG"))}
    with subprocess.Popen(
        [sys.executable, "-m", "pytest", *words], cwd=ROOT, env=variables,
        stdout=subprocess.DEVNULL, start_new_session=True,
    ) as tests:  # fmt: skip
        at = tmp_path / "base" / f"{name}.at"
        wait_for(lambda: at.exists() and at.read_text())
        os.kill(tests.pid, number)
    socket = Path(parse_qs(urlsplit(at.read_text()).query)[place][0])
    wait_for(lambda: not socket.exists())

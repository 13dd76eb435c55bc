"""Running the stand-in: in a thread of this process, or until Ctrl-C."""

import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from tidymerge.demo.lists.faults import Manners
from tidymerge.demo.lists.store import Store
from tidymerge.errors import BadOption, Interrupted, MissingPackage

if TYPE_CHECKING:
    import uvicorn

HOST = "127.0.0.1"


def _server(path: Path, manners: Manners, port: int) -> "tuple[uvicorn.Server, socket.socket, Store, str]":
    try:
        import uvicorn

        from tidymerge.demo.lists.app import ROOT, make_app
    except ImportError:
        raise MissingPackage(
            "The stand-in for a list service needs Starlette and uvicorn: pip install 'tidymerge[demo]'",
            package="uvicorn",
        ) from None
    # Said to be TCP, asyncio lets answers go at once, where they would wait for 40 ms else.
    place = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
    place.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    place.bind((HOST, port))
    root = f"http://{HOST}:{place.getsockname()[1]}{ROOT}"
    store = Store(path)
    config = uvicorn.Config(
        make_app(store, manners, root), log_level="critical", access_log=False, lifespan="off", timeout_keep_alive=60
    )
    return uvicorn.Server(config), place, store, root


def serve(path: Path, port: int, ready: Callable[[str], None]) -> None:
    """Serve the tables of a SQLite file until Ctrl-C; `ready` is told the service's root URL. Raises BadOption."""
    try:
        server, place, store, root = _server(path, Manners(), port)
    except OSError as error:
        raise BadOption(f"The port {port} of this machine can't be used: {error.strerror}. Give another one.") from None
    try:
        place.listen()  # so that the address can be used as soon as it is said
        ready(root)
        server.run(sockets=[place])
    except (KeyboardInterrupt, Interrupted):
        return
    finally:
        place.close()
        store.close()


@contextmanager
def served(path: Path, manners: Manners | None = None, port: int = 0) -> Iterator[str]:
    """Serve the tables of a SQLite file while inside; the service's root URL."""
    server, place, store, root = _server(path, manners or Manners(), port)
    thread = threading.Thread(target=server.run, kwargs={"sockets": [place]}, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    try:
        yield root
    finally:
        server.should_exit = True
        thread.join(10)
        place.close()
        store.close()

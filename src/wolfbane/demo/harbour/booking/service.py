"""A sample booking service: berths, bookings and machines as a JSON API.

    python3 booking/service.py local --port 8730
    python3 booking/service.py staging            on port 8731

It needs only Python. It does not store bookings after it ends. Requests that change something need the token from token.txt or from the variable BOOKING_TOKEN.
"""

from __future__ import annotations

import argparse
import itertools
import json
import math
import os
import re
import secrets
import signal
import sys
import time
from datetime import date
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

HERE = Path(__file__).parent


class Harbour:
    """The data of the service: berths and machines from a file, and bookings."""

    def __init__(self, name: str) -> None:
        data = json.loads((HERE / f"{name}.json").read_text(encoding="utf-8"))
        self.berths = {berth["id"]: berth for berth in data["berths"]}
        self.machines = {machine["name"]: machine for machine in data["machines"]}
        self.version = data["version"]
        self.refunds = data["refunds"]
        self.bookings: dict[int, dict] = {}
        # A number is never given twice: a cancelled booking must stay away.
        self.numbers = itertools.count(101)
        self.tokens: set[str] = set()
        self.visitors: set[str] = set()

    def book(self, wish: dict) -> tuple[int, dict]:
        """The booking that was made, or what is wrong with the wish."""
        missing = [key for key in ("berth", "boat", "nights") if key not in wish]
        if missing:
            return 400, {"error": f"missing: {', '.join(missing)}"}
        berth = self.berths.get(wish["berth"])
        if berth is None:
            return 404, {"error": f"there is no berth {wish['berth']}"}
        if wish.get("length", 0) > berth["length"]:
            return 409, {"error": f"berth {berth['id']} is {berth['length']} m long"}
        number = next(self.numbers)
        fee = berth["length"] * wish["nights"] * 1.5
        self.bookings[number] = {"number": number, "fee": fee, **wish}
        return 201, self.bookings[number]

    def page(self, query: dict) -> tuple[int, object, dict]:
        """One page of the berths that are longer than the requested length, and their total number."""
        try:
            longer = float(query.get("longer_than", ["0"])[0])
            page, size = (int(query.get(key, [default])[0]) for key, default in _PAGES.items())
        except ValueError as error:
            return 400, {"error": str(error)}, {}
        longer_ones = [berth for berth in self.berths.values() if berth["length"] > longer]
        return 200, longer_ones[(page - 1) * size : page * size], {"X-Total": str(len(longer_ones))}


_PAGES = {"page": "1", "size": "20"}


def tides(day: date) -> list[dict]:
    """High and low water, a little more than six hours apart; the heights follow the moon roughly.
    """
    first = day.toordinal() * 50 % 372
    swing = 1.2 + 0.5 * math.cos(day.toordinal() / 14.765 * 2 * math.pi)
    return [
        {"time": f"{minute // 60:02}:{minute % 60:02}", "height": round(2 + swing * (-1) ** n, 2)}
        for n, minute in enumerate(range(first, 1440, 372))
    ]


class Desk(BaseHTTPRequestHandler):
    """Answers requests."""

    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True

    harbour: Harbour
    token: str

    def do_GET(self) -> None:
        harbour = self.harbour
        place = urlsplit(self.path)
        if place.path.startswith("/pages/"):
            self.show(place.path.removeprefix("/pages/"))
            return
        if place.path == "/machines/crane-1":
            self.wake_the_crane()
        if place.path == "/berths":
            self.answer(*harbour.page(parse_qs(place.query)))
        elif place.path.startswith("/tides/"):
            self.tell_tides(place.path.removeprefix("/tides/"))
        elif self.path == "/version":
            self.answer(200, {"version": harbour.version})
        elif self.path == "/health":
            self.answer(200, {"status": "up", "berths": len(harbour.berths)})
        else:
            self.look_up(
                {"berths": harbour.berths, "machines": harbour.machines, "bookings": harbour.bookings}
            )

    def show(self, name: str) -> None:
        """A page: of the tide board, the booking form, or the map of the berths."""
        page = HERE / "pages" / Path(name).name
        kind = "text/css" if page.suffix == ".css" else "text/html; charset=utf-8"
        if page.is_file():
            self.send(200, page.read_bytes(), kind)
        else:
            self.answer(404, {"error": f"there is no page {name}"})

    def wake_the_crane(self) -> None:
        """The crane responds slowly to a browser that it has not seen before."""
        visitor = self.headers.get("User-Agent", "")
        if visitor.startswith("Mozilla") and visitor not in self.harbour.visitors:
            self.harbour.visitors.add(visitor)
            time.sleep(1.5)

    def tell_tides(self, day: str) -> None:
        try:
            self.answer(200, tides(date.fromisoformat(day)))
        except ValueError as error:
            self.answer(400, {"error": str(error)})

    def look_up(self, kinds: dict) -> None:
        match = re.fullmatch(r"/(\w+)/([\w-]+)", self.path)
        kind = kinds.get(match[1], {}) if match else {}
        key = match[2] if match else ""
        found = kind.get(int(key) if key.isdecimal() else key)
        self.answer(200 if found else 404, found or {"error": f"there is no {self.path}"})

    def do_POST(self) -> None:
        size = int(self.headers.get("Content-Length") or 0)
        body = self.rfile.read(size)
        if self.path == "/login":
            self.log_in(parse_qs(body.decode()))
            return
        if not self.allowed():
            return
        if self.path != "/bookings":
            self.answer(404, {"error": f"there is no {self.path}"})
            return
        try:
            wish = json.loads(body)
        except ValueError:
            self.answer(400, {"error": "the body is not JSON"})
            return
        status, answer = self.harbour.book(wish)
        self.answer(status, answer, {"Location": f"/bookings/{answer.get('number')}"})

    def log_in(self, form: dict) -> None:
        if form.get("secret") != [self.token]:
            self.answer(401, {"error": "the secret is not right"})
            return
        token = secrets.token_hex(8)
        self.harbour.tokens.add(token)
        self.answer(200, {"token": token, "seconds": 3600})

    def do_DELETE(self) -> None:
        match = re.fullmatch(r"/bookings/(\d+)", self.path)
        if not self.allowed():
            return
        gone = self.harbour.bookings.pop(int(match[1]), None) if match else None
        if gone is None:
            self.answer(404, {"error": "there is no such booking"})
        elif self.harbour.refunds:
            self.answer(200, {"number": gone["number"], "refund": gone["fee"] * 0.9})
        else:
            self.answer(200, {"number": gone["number"]})

    def allowed(self) -> bool:
        shown = self.headers.get("Authorization", "").removeprefix("Bearer ")
        if shown == self.token or shown in self.harbour.tokens:
            return True
        self.answer(401, {"error": "the token is not right"})
        return False

    def answer(self, status: int, data: object, headers: dict = {}) -> None:
        self.send(status, json.dumps(data).encode(), "application/json", headers)

    def send(self, status: int, body: bytes, kind: str, headers: dict = {}) -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        for name, value in headers.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)


def main() -> None:
    parser = argparse.ArgumentParser(description="The booking service of Saltmarsh Harbour.")
    parser.add_argument("name", choices=["local", "staging"], help="the data to use")
    parser.add_argument("--port", type=int, default=8731)
    given = parser.parse_args()
    Desk.harbour = Harbour(given.name)
    Desk.token = os.environ.get("BOOKING_TOKEN") or (HERE / "token.txt").read_text().strip()
    signal.signal(signal.SIGTERM, lambda *_: sys.exit())
    with ThreadingHTTPServer(("127.0.0.1", given.port), Desk) as server:
        print(f"the booking service ({given.name}) is at http://127.0.0.1:{given.port}", flush=True)
        server.serve_forever()


if __name__ == "__main__":
    main()

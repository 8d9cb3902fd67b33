"""The booking service, a stand-in: berths, bookings and the quay's machines over JSON.

    python3 booking/service.py local --port 8730
    python3 booking/service.py staging            on port 8731

It needs nothing but Python. What is booked is forgotten when it ends. Whoever changes
something shows the token in token.txt, or the one in the variable BOOKING_TOKEN.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import signal
import sys
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

HERE = Path(__file__).parent


class Harbour:
    """What the service knows: berths and machines from a file, and bookings."""

    def __init__(self, name: str) -> None:
        data = json.loads((HERE / f"{name}.json").read_text(encoding="utf-8"))
        self.berths = {berth["id"]: berth for berth in data["berths"]}
        self.machines = {machine["name"]: machine for machine in data["machines"]}
        self.bookings: dict[int, dict] = {}

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
        number = max(self.bookings, default=100) + 1
        self.bookings[number] = {"number": number, **wish}
        return 201, self.bookings[number]


class Desk(BaseHTTPRequestHandler):
    """Answers requests."""

    harbour: Harbour
    token: str

    def do_GET(self) -> None:
        harbour = self.harbour
        if self.path == "/health":
            self.answer(200, {"status": "up", "berths": len(harbour.berths)})
        elif self.path == "/berths":
            self.answer(200, list(harbour.berths.values()))
        else:
            self.look_up(
                {"berths": harbour.berths, "machines": harbour.machines, "bookings": harbour.bookings}
            )

    def look_up(self, kinds: dict) -> None:
        match = re.fullmatch(r"/(\w+)/([\w-]+)", self.path)
        kind = kinds.get(match[1], {}) if match else {}
        key = match[2] if match else ""
        found = kind.get(int(key) if key.isdecimal() else key)
        self.answer(200 if found else 404, found or {"error": f"there is no {self.path}"})

    def do_POST(self) -> None:
        size = int(self.headers.get("Content-Length") or 0)
        body = self.rfile.read(size)
        if not self.allowed():
            return
        if self.path != "/bookings":
            self.answer(404, {"error": f"there is no {self.path}"})
            return
        try:
            wish = json.loads(body)
        except ValueError:
            self.answer(400, {"error": "the body is no JSON"})
            return
        self.answer(*self.harbour.book(wish))

    def do_DELETE(self) -> None:
        match = re.fullmatch(r"/bookings/(\d+)", self.path)
        if not self.allowed():
            return
        gone = self.harbour.bookings.pop(int(match[1]), None) if match else None
        self.answer(200 if gone else 404, gone or {"error": "there is no such booking"})

    def allowed(self) -> bool:
        if self.headers.get("Authorization") == f"Bearer {self.token}":
            return True
        self.answer(401, {"error": "the token is not right"})
        return False

    def answer(self, status: int, data: object) -> None:
        body = json.dumps(data).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)


def main() -> None:
    parser = argparse.ArgumentParser(description="The booking service of Saltmarsh Harbour.")
    parser.add_argument("name", choices=["local", "staging"], help="whose data it has")
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

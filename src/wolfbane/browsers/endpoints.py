"""The WebDriver Classic endpoints, and the sentence for each command.

Source: https://www.w3.org/TR/webdriver2/#endpoints
"""

from __future__ import annotations

import re
from collections.abc import Mapping

import msgspec

ELEMENT = "element-6066-11e4-a52e-4f735466cecf"
SHADOW = "shadow-6066-11e4-a52e-4f735466cecf"


class Endpoint(msgspec.Struct, frozen=True):
    """One command: ``path`` is the path after the session, ``description`` its sentence."""

    method: str
    path: str
    name: str
    description: str


_TABLE = """
POST '' New Session  open a session
DELETE '' Delete Session  end the session
GET timeouts Get Timeouts  read the time limits
POST timeouts Set Timeouts  set the time limits {all}
POST url Navigate To  open {url}
GET url Get Current URL  read the address
POST back Back  go back
POST forward Forward  go forward
POST refresh Refresh  load again
GET title Get Title  read the title
GET window Get Window Handle  read the window's handle
DELETE window Close Window  close the window
POST window Switch To Window  turn to window {handle}
GET window/handles Get Window Handles  read the windows' handles
POST window/new New Window  open a new {type}
POST frame Switch To Frame  turn to frame {id}
POST frame/parent Switch To Parent Frame  turn to the frame around
GET window/rect Get Window Rect  read the window's place
POST window/rect Set Window Rect  place the window at {all}
POST window/maximize Maximize Window  make the window as large as can be
POST window/minimize Minimize Window  make the window small
POST window/fullscreen Fullscreen Window  make the window fill the screen
GET element/active Get Active Element  find the element with focus
GET element/{element}/shadow Get Element Shadow Root  find the shadow root of {element}
POST element Find Element  find {value} by {using}
POST elements Find Elements  find all {value} by {using}
POST element/{element}/element Find Element From Element  find {value} by {using} in {element}
POST element/{element}/elements Find Elements From Element  find all {value} by {using} in {element}
POST shadow/{shadow}/element Find Element From Shadow Root  find {value} by {using} in shadow
POST shadow/{shadow}/elements Find Elements From Shadow Root  find all {value} by {using} in shadow
GET element/{element}/selected Is Element Selected  ask whether {element} is selected
GET element/{element}/attribute/{name} Get Element Attribute  read attribute {name} of {element}
GET element/{element}/property/{name} Get Element Property  read property {name} of {element}
GET element/{element}/css/{name} Get Element CSS Value  read style {name} of {element}
GET element/{element}/text Get Element Text  read the text of {element}
GET element/{element}/name Get Element Tag Name  read the tag of {element}
GET element/{element}/rect Get Element Rect  read the place of {element}
GET element/{element}/enabled Is Element Enabled  ask whether {element} is enabled
GET element/{element}/computedrole Get Computed Role  read the role of {element}
GET element/{element}/computedlabel Get Computed Label  read the label of {element}
POST element/{element}/click Element Click  click {element}
POST element/{element}/clear Element Clear  clear {element}
POST element/{element}/value Element Send Keys  type {text} into {element}
GET source Get Page Source  read the page's source
POST execute/sync Execute Script  run {script}
POST execute/async Execute Async Script  run {script} and wait
GET cookie Get All Cookies  read all cookies
GET cookie/{name} Get Named Cookie  read cookie {name}
POST cookie Add Cookie  set a cookie {cookie}
DELETE cookie/{name} Delete Cookie  delete cookie {name}
DELETE cookie Delete All Cookies  delete all cookies
POST actions Perform Actions  act: {actions}
DELETE actions Release Actions  let go of keys and buttons
POST alert/dismiss Dismiss Alert  dismiss the dialog
POST alert/accept Accept Alert  accept the dialog
GET alert/text Get Alert Text  read the dialog's text
POST alert/text Send Alert Text  type {text} into the dialog
GET screenshot Take Screenshot  take a picture of the page
GET element/{element}/screenshot Take Element Screenshot  take a picture of {element}
POST print Print Page  print the page
"""


def _read() -> tuple[Endpoint, ...]:
    endpoints = []
    for line in _TABLE.strip().splitlines():
        method, path, rest = line.split(maxsplit=2)
        name, description = re.split(r"  +", rest)
        endpoints.append(
            Endpoint(method=method, path=path.strip("'"), name=name, description=description)
        )
    return tuple(endpoints)


ENDPOINTS = _read()
_EXACT = {(e.method, e.path): e for e in ENDPOINTS if "{" not in e.path}
_HOLES = [
    (e, re.compile(re.sub(r"\{(\w+)\}", r"(?P<\1>[^/]+)", e.path)))
    for e in ENDPOINTS
    if "{" in e.path
]


def find(method: str, path: str) -> tuple[Endpoint, Mapping[str, str]]:
    """The endpoint of a command and the values in its path; an unnamed one for other commands."""
    path = path.strip("/")
    if exact := _EXACT.get((method, path)):
        return exact, {}
    for endpoint, pattern in _HOLES:
        if endpoint.method == method and (match := pattern.fullmatch(path)):
            return endpoint, match.groupdict()
    return Endpoint(
        method=method, path=path, name=f"{method} {path}", description=f"{method} {path}"
    ), {}


def named(*names: str) -> frozenset[str]:
    """The endpoints with these names. Raises ValueError for a name that is not in the standard."""
    unknown = set(names) - {endpoint.name for endpoint in ENDPOINTS}
    if unknown:
        raise ValueError(f"there is no command {', '.join(sorted(unknown))}")
    return frozenset(names)


def is_known(path: str) -> bool:
    """Whether the standard has a command with this path, by any method."""
    return any(find(method, path)[0] in ENDPOINTS for method in ("GET", "POST", "DELETE"))

const KEYS = [["/", "search"], ["j or ↓", "next test in the list"], ["k or ↑", "previous test in the list"], ["Enter", "open the test"], ["n", "on the page of a test: next test"], ["p", "on the page of a test: previous test"], ["f", "show only failed tests"], ["← and →", "in a browser replay: previous and next command"], ["c", "copy the command"], ["Esc", "go back, or clear the search"], ["?", "show the keyboard shortcuts"]];

function step(by) {
  const links = [...list.querySelectorAll("a")];
  const at = links.indexOf(document.activeElement) + by;
  if (at >= links.length && !more.hidden) showMore();
  const next = list.querySelectorAll("a")[Math.max(at, 0)];
  next?.focus();
  next?.scrollIntoView({block: "nearest"});
}

function onTest(key) {
  if (key === "ArrowLeft" || key === "ArrowRight") return stepReplay(key === "ArrowLeft" ? -1 : 1);
  const links = {n: "next", p: "before", Escape: "back"};
  if (key in links) document.getElementById(links[key])?.click();
  else if (key === "c") page.querySelector(".copy")?.click();
  return key in links || key === "c";
}

function onList(key) {
  if (key === "j" || key === "ArrowDown") step(1);
  else if (key === "k" || key === "ArrowUp") step(-1);
  else if (key === "f") ask({outcome: index.bad.map((number) => index.outcomes[number]).join(",")}, true);
  else return false;
  return true;
}

function pressed(event) {
  if (event.ctrlKey || event.metaKey || event.altKey || document.getElementById("keys").open) return;
  const field = event.target.closest("input, select");
  if (event.key === "Escape" && field) {
    if (field.value) { field.value = ""; ask({q: ""}); }
    field.blur();
    return;
  }
  const inList = list.contains(document.activeElement);
  const steps = !page.hidden && ["ArrowLeft", "ArrowRight"].includes(event.key);
  if (field || (event.key.startsWith("Arrow") && !inList && !steps)) return;
  if (event.key === "/") document.getElementById("search").focus();
  else if (event.key === "?") document.getElementById("keys").showModal();
  else if (!(page.hidden ? onList(event.key) : onTest(event.key))) return;
  event.preventDefault();
}

function buildKeys() {
  const lines = KEYS.map(([keys, what]) => node("tr", {}, node("td", {}, node("kbd", {}, keys)), node("td", {}, what)));
  const close = node("form", {method: "dialog"}, node("button", {}, "Close"));
  document.getElementById("keys").append(node("h2", {}, "Keys"), node("table", {}, node("tbody", {}, lines)), close);
}

// Which part of the page is shown follows from its address: #test=ADDRESS, #outcome=failed, ...
const overview = document.getElementById("overview");
const THEMES = ["system", "light", "dark"];
let place = 0;
let listed = null;

// Ask for something else: what is named here changes, all else that is asked for stays.
function ask(changes, only = false) {
  const asked = only ? new URLSearchParams() : wanted();
  for (const [name, value] of Object.entries(changes)) {
    if (value) asked.set(name, value);
    else asked.delete(name);
  }
  asked.delete("test");
  location.replace(`#${asked}`);
}

function show() {
  const asked = wanted();
  const number = asked.has("test") ? numberOf(asked.get("test")) : undefined;
  const came = !page.hidden;
  if (number !== undefined && page.hidden) place = scrollY;
  const section = document.getElementById(location.hash.slice(1));
  const filters = section ? "" : new URLSearchParams([...asked].filter(([name]) => name !== "test")).toString();
  if (filters !== listed && (section === null || listed === null)) {
    listed = filters;
    showFilters(new URLSearchParams(filters));
    showList(new URLSearchParams(filters));
    if (filters && !came && number === undefined && document.activeElement?.id !== "search") document.getElementById("tests").scrollIntoView();
  }
  overview.hidden = number !== undefined;
  page.hidden = number === undefined;
  document.body.classList.toggle("reading", number !== undefined);
  if (number !== undefined) {
    showTest(number);
    scrollTo(0, 0);
    page.querySelector("h1").focus({preventScroll: true});
  } else if (section) section.scrollIntoView();
  else if (came) scrollTo(0, place);
}

function theme(name) {
  if (name === "system") delete document.documentElement.dataset.theme;
  else document.documentElement.dataset.theme = name;
  document.getElementById("theme").textContent = `Theme: ${name}`;
}

function nextTheme() {
  const now = document.documentElement.dataset.theme ?? "system";
  const next = THEMES[(THEMES.indexOf(now) + 1) % THEMES.length];
  theme(next);
  try { localStorage.setItem("theme", next); } catch { /* a page from a file may have no place for it */ }
}

function begin() {
  document.documentElement.classList.add("script");
  try { theme(localStorage.getItem("theme") ?? "system"); } catch { theme("system"); }
  buildFilters();
  buildKeys();
  document.getElementById("search").addEventListener("input", (event) => ask({q: event.target.value.trim()}));
  document.getElementById("filters").addEventListener("submit", (event) => event.preventDefault());
  document.getElementById("fields").addEventListener("change", (event) => ask({[event.target.name]: event.target.value}));
  document.getElementById("outcomes").addEventListener("click", (event) => {
    const name = event.target.dataset.outcome;
    const outcomes = new Set((wanted().get("outcome") ?? "").split(",").filter(Boolean));
    if (name && !outcomes.delete(name)) outcomes.add(name);
    ask({outcome: [...outcomes].join(",")});
  });
  more.addEventListener("click", showMore);
  new IntersectionObserver(([seen]) => seen.isIntersecting && showMore()).observe(more);
  document.addEventListener("click", (event) => event.target.matches(".copy") && copy(event.target));
  document.addEventListener("keydown", pressed);
  document.getElementById("theme").addEventListener("click", nextTheme);
  document.getElementById("help").addEventListener("click", () => document.getElementById("keys").showModal());
  addEventListener("hashchange", show);
  show();
  // What makes the first search and the first sort of a large page slow is done while nobody waits.
  const later = window.requestIdleCallback ?? setTimeout;
  later(() => haystack(0));
  for (const order of Object.keys(ORDERS)) later(() => inOrder(order));
}

begin();

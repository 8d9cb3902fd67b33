// The list of tests: as many rows as were scrolled to, whatever the number of results.
const AT_ONCE = 100;
const list = document.getElementById("list");
const more = document.getElementById("more");
let chosen = [];
let shown = 0;

function linkTo(number) {
  const asked = wanted();
  asked.set("test", addressOf(rows[number]));
  return `#${asked}`;
}

function rowOf(number) {
  const row = rows[number];
  const names = node("span", {class: "what"},
    node("span", {class: "name"}, row[NAME] || index.paths[row[PATH]]), " ",
    tag(index.browsers[row[BROWSER]]), " ", tag(index.targets[row[TARGET]]), " ",
    row[HELD] ? tag("quarantined") : null, " ",
    row[NAME] ? node("span", {class: "path"}, index.paths[row[PATH]]) : null);
  if (bad.has(row[OUTCOME]) && index.messages[number]) names.append(node("div", {class: "path"}, index.messages[number]));
  const tries = row[ATTEMPTS] > 1 ? `${row[ATTEMPTS]} attempts, ` : "";
  return node("li", {}, node("a", {href: linkTo(number)}, mark(row[OUTCOME]), names, node("span", {class: "time"}, tries + clock(row[SECONDS]))));
}

function showMore() {
  const next = chosen.slice(shown, shown + AT_ONCE);
  list.append(...next.map(rowOf));
  shown += next.length;
  more.hidden = shown >= chosen.length;
  more.textContent = `Show more (${(chosen.length - shown).toLocaleString("en")} left)`;
}

function showList(asked) {
  chosen = matching(asked);
  shown = 0;
  list.replaceChildren();
  const seconds = chosen.reduce((sum, number) => sum + rows[number][SECONDS], 0);
  document.getElementById("found").textContent = chosen.length
    ? `${chosen.length.toLocaleString("en")} of ${rows.length.toLocaleString("en")} tests, ${clock(seconds)} in total`
    : `None of ${rows.length.toLocaleString("en")} tests matches these filters.`;
  showMore();
}

function buildFilters() {
  const used = new Set(rows.map(outcomeName));
  const names = [...index.outcomes, QUARANTINED].filter((name) => used.has(name));
  document.getElementById("outcomes").append(...names.map((name) => node("button", {type: "button", class: "chip", "data-outcome": name, "aria-pressed": "false"}, name)));
  const choices = [...fields].map(([name, field]) => node("label", {}, name,
    node("select", {name}, node("option", {value: ""}, "any"), field.words.map((word) => node("option", {value: word}, word)))));
  const orders = Object.entries(ORDERS).map(([value, words]) => node("option", {value}, words));
  document.getElementById("fields").append(...choices, node("label", {}, "order", node("select", {name: "order"}, orders)));
}

function showFilters(asked) {
  const search = document.getElementById("search");
  if (document.activeElement !== search) search.value = asked.get("q") ?? "";
  const outcomes = (asked.get("outcome") ?? "").split(",");
  for (const button of document.querySelectorAll("#outcomes button")) {
    button.setAttribute("aria-pressed", String(outcomes.includes(button.dataset.outcome)));
  }
  for (const select of document.querySelectorAll("#fields select")) select.value = asked.get(select.name) ?? "";
}

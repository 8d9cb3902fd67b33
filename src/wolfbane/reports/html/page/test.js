// A test's own page.
const page = document.getElementById("test");

function part([name, outcome, said, seconds, place, inner, table, text], kept = []) {
  const head = [mark(outcome), " ", name, " ", place ? node("span", {class: "path"}, place) : null, seconds ? node("span", {class: "path"}, ` ${clock(seconds)}`) : null];
  const below = [table?.length ? cells(table) : null, text ? node("pre", {}, text) : null];
  return node("li", {}, head, below, said ? message(said) : null, kept.length ? evidence(kept) : null, inner.length ? node("ul", {}, inner.map((each) => part(each))) : null);
}

function cells(rows) {
  const row = (each) => node("tr", {}, each.map((cell) => node("td", {}, cell)));
  return node("table", {class: "cells"}, node("tbody", {}, rows.map(row)));
}

function about(pairs) {
  const told = ([title, words]) => [node("p", {class: "about"}, title), words ? node("p", {class: "description"}, words) : null];
  return node("div", {}, pairs.map(told).flat());
}

function attachedTo(detail, number) {
  return (detail.evidence ?? []).filter((each) => each.part === number);
}

function partsOf(detail) {
  if (!detail.parts) return [];
  const rest = detail.more ? node("p", {class: "note"}, `and ${detail.more} more parts`) : null;
  return [node("h2", {}, "Parts"), node("div", {class: "parts"}, node("ul", {}, detail.parts.map((each, at) => part(each, attachedTo(detail, at + 1)))), rest)];
}

function headers(pairs) {
  return node("pre", {}, pairs.map(([name, value]) => `${name}: ${value}\n`));
}

function exchange(each) {
  const title = [tag(String(each.status || "no answer")), " ", node("b", {}, each.method), ` ${each.url} `, node("span", {class: "path"}, `${Math.round(each.ms)} ms`)];
  const said = each.said ? node("p", {class: "note"}, each.said) : null;
  const body = each.answer ? node("pre", {class: "long"}, each.answer) : node("p", {class: "note"}, each.size ? `${each.size} bytes of ${each.type}` : "no body");
  return folded(title, false, said, "request", headers(each.sent), each.body ? node("pre", {class: "long"}, each.body) : null, "response", headers(each.got), body);
}

function evidence(kept) {
  const pictures = kept.filter((each) => each.picture);
  const others = kept.filter((each) => !each.picture);
  const shots = pictures.map((each) => node("figure", {}, node("img", {src: each.picture, alt: each.name ?? each.kind}), node("figcaption", {}, `${each.name ?? each.kind}, ${each.path}`)));
  return [shots.length ? node("div", {class: "shots"}, shots) : null, ...others.map(piece)];
}

function piece(each) {
  const title = [each.name ?? each.kind, " ", node("span", {class: "path"}, each.path)];
  if (each.exchanges) return node("div", {}, node("h3", {}, "HTTP exchanges"), each.exchanges.map(exchange), node("p", {class: "path"}, each.path));
  if (each.text !== undefined) return folded(title, false, node("pre", {class: "long"}, each.text));
  return node("p", {}, ...title, node("span", {class: "note"}, ` ${each.left ?? ""}`));
}

function attempt(detail) {
  const loose = (detail.evidence ?? []).filter((each) => !each.part || each.part > (detail.parts ?? []).length);
  const calls = (detail.frames ?? []).map(([file, line, name]) => `${file}:${line} in ${name}\n`);
  return [
    detail.message ? message(detail.message) : null,
    detail.excerpt ? code(detail.excerpt) : null,
    calls.length > 1 ? [node("h2", {}, "Call stack"), node("pre", {}, calls)] : null,
    partsOf(detail),
    detail.output ? [node("h2", {}, "Output"), node("pre", {class: "long"}, detail.output)] : null,
    loose.length ? [node("h2", {}, "Evidence"), withReplays(loose)] : null,
    detail.trace ? folded(["Full stack trace"], false, node("pre", {class: "long"}, detail.trace)) : null,
  ].flat(2);
}

function facts(row, detail) {
  const [suite, kind] = index.suites[row[SUITE]];
  const told = [index.outcomes[row[OUTCOME]], `suite ${suite} (${kind})`, clock(row[SECONDS])];
  if (detail.worker) told.push(`worker ${detail.worker}${detail.machine ? ` of ${detail.machine}` : ""}, ${clock(detail.began ?? 0)} after the start of the run`);
  if (row[ATTEMPTS] > 1) told.push(`${row[ATTEMPTS]} attempts`);
  if (row[HELD]) told.push("quarantined");
  if (detail.account) told.push(detail.account);
  return told.map((text) => node("span", {}, text));
}

function neighbours(number) {
  const order = chosen.length ? chosen : matching(wanted());
  const at = order.indexOf(number);
  const link = (to, words, key) => to === undefined ? null : node("a", {class: "chip", id: key, href: linkTo(to)}, words);
  return [link(order[at - 1], "‹ previous", "before"), link(at < 0 ? undefined : order[at + 1], "next ›", "next")];
}

function showTest(number) {
  const row = rows[number], detail = detailsOf(number), asked = wanted();
  asked.delete("test");
  replays = [];
  const tags = index.tags[row[TAGS]].map((word) => [tag(word), " "]);
  const earlier = (detail.earlier ?? []).map((each, at) =>
    folded([mark(each.outcome), ` ${detail.repeated ? "" : `attempt ${at + 1}, `}${index.outcomes[each.outcome]}, ${clock(each.seconds)}`], true, ...attempt(each)));
  page.replaceChildren(...[
    node("p", {class: "steps"}, node("a", {class: "chip", id: "back", href: `#${asked}`}, "‹ All tests"), neighbours(number)),
    node("h1", {tabindex: "-1"}, mark(row[OUTCOME]), " ", row[NAME] || index.paths[row[PATH]]),
    node("p", {class: "facts"}, facts(row, detail)),
    node("p", {}, node("span", {class: "path"}, index.paths[row[PATH]]), " ", tag(index.browsers[row[BROWSER]]), " ", tag(index.targets[row[TARGET]]), " ", tags.flat()),
    detail.about ? about(detail.about) : null,
    detail.repeated ? node("p", {class: "facts"}, node("span", {}, detail.repeated)) : null,
    earlier.length ? node("h2", {}, detail.repeated ? "The first failure" : `Attempt ${row[ATTEMPTS]}, the last`) : null,
    ...attempt(detail),
    Object.keys(detail).some((key) => !["worker", "began", "earlier", "account", "again", "about", "repeated", "machine"].includes(key)) ? null : node("p", {class: "note"}, "The test printed nothing and left no evidence."),
    earlier.length ? node("h2", {}, detail.repeated ? "Later failures" : "Earlier attempts") : null, ...earlier,
    node("h2", {}, "Run it again"), command(commandFor(number)),
  ].filter(Boolean));
}

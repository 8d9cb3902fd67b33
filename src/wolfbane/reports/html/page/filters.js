// What is looked for, kept in the address of the page so that it can be passed on.
const QUARANTINED = "quarantined";
const ORDERS = {"": "failed tests first", slow: "slowest first", name: "by address"};
const plainTags = index.tags.map((tags) => tags.filter((tag) => !tag.includes("=")));
const keyedTags = index.tags.map((tags) => new Map(tags.filter((t) => t.includes("=")).map((t) => {
  const at = t.indexOf("=");
  return [t.slice(0, at), t.slice(at + 1)];
})));
const fields = fieldsInUse();
const orderings = new Map();

function fieldsInUse() {
  const found = new Map();
  const add = (name, values, read) => {
    const words = [...new Set(values)].filter(Boolean).sort();
    if (words.length > 1 || (words.length === 1 && name !== "suite" && name !== "kind")) found.set(name, {words, read});
  };
  add("suite", index.suites.map(([suite]) => suite), (row, word) => index.suites[row[SUITE]][0] === word);
  add("kind", index.suites.map(([, kind]) => kind), (row, word) => index.suites[row[SUITE]][1] === word);
  add("tag", plainTags.flat(), (row, word) => plainTags[row[TAGS]].includes(word));
  for (const key of new Set(keyedTags.flatMap((tags) => [...tags.keys()]))) {
    add(key, keyedTags.map((tags) => tags.get(key)), (row, word) => keyedTags[row[TAGS]].get(key) === word);
  }
  add("browser", index.browsers, (row, word) => index.browsers[row[BROWSER]] === word);
  add("environment", index.targets, (row, word) => index.targets[row[TARGET]] === word);
  return found;
}

function wanted() {
  return new URLSearchParams(location.hash.slice(1));
}

function outcomeName(row) {
  return row[HELD] ? QUARANTINED : index.outcomes[row[OUTCOME]];
}

// The numbers of the tests that are looked for, in the order that is asked for.
function matching(asked) {
  const outcomes = new Set((asked.get("outcome") ?? "").split(",").filter(Boolean));
  const words = (asked.get("q") ?? "").toLowerCase().split(/\s+/).filter(Boolean);
  const whole = words.length ? (asked.get("q") ?? "").toLowerCase() : "";
  const checks = [...fields].filter(([name]) => asked.get(name)).map(([name, field]) => (row) => field.read(row, asked.get(name)));
  const found = [];
  for (const number of inOrder(asked.get("order") ?? "")) {
    const row = rows[number];
    if (outcomes.size && !outcomes.has(outcomeName(row))) continue;
    if (!checks.every((holds) => holds(row))) continue;
    if (whole && !haystack(number).includes(whole) && !words.every((word) => haystack(number).includes(word))) continue;
    found.push(number);
  }
  return found;
}

// The numbers of all tests in an order: to sort tens of thousands takes longer than to filter them.
function inOrder(order) {
  if (!orderings.has(order)) orderings.set(order, sorted([...rows.keys()], order));
  return orderings.get(order);
}

function rank(row) {
  return bad.has(row[OUTCOME]) && !row[HELD] ? 0 : row[HELD] ? 2 : index.outcomes[row[OUTCOME]] === "flaky" ? 1 : 3;
}

function sorted(numbers, order) {
  if (order === "slow") return numbers.sort((a, b) => rows[b][SECONDS] - rows[a][SECONDS]);
  const keys = rows.map(addressOf);
  const byName = (a, b) => (keys[a] < keys[b] ? -1 : 1);
  if (order === "name") return numbers.sort(byName);
  return numbers.sort((a, b) => rank(rows[a]) - rank(rows[b]) || byName(a, b));
}

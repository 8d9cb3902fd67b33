"use strict";
// The data of the page. A row's columns are those of index() in data.py.
const [PATH, NAME, OUTCOME, SUITE, BROWSER, TARGET, TAGS, SECONDS, ATTEMPTS, HELD] = Array(10).keys();
const index = JSON.parse(document.getElementById("index").textContent);
const rows = index.rows;
const bad = new Set(index.bad);
const pieces = new Map();
let haystacks = null;
let numbers = null;

function variantOf(row) {
  const browser = index.browsers[row[BROWSER]], target = index.targets[row[TARGET]];
  return (browser && ` @${browser}`) + (target && ` @${target}`);
}

function addressOf(row) {
  const path = index.paths[row[PATH]];
  return (row[NAME] ? `${path}#${row[NAME]}` : path) + variantOf(row);
}

function numberOf(address) {
  numbers ??= new Map(rows.map((row, number) => [addressOf(row), number]));
  return numbers.get(address);
}

function haystack(number) {
  haystacks ??= rows.map((row, n) => `${addressOf(row)} ${index.messages[n] ?? ""}`.toLowerCase());
  return haystacks[number];
}

function detailsOf(number) {
  const key = Math.floor(number / index.piece);
  if (!pieces.has(key)) {
    const kept = document.getElementById(`piece-${key}`);
    pieces.set(key, kept ? JSON.parse(kept.textContent) : {});
  }
  return pieces.get(key)[number] ?? {};
}

function clock(seconds) {
  if (seconds < 0.0995) return `${Math.round(seconds * 1000)} ms`;
  if (seconds < 60) return `${seconds.toFixed(2)} s`;
  const whole = Math.round(seconds);
  return `${Math.floor(whole / 60)} min ${String(whole % 60).padStart(2, "0")} s`;
}

// As a shell reads it: bare where it is plain, else between single quotes.
function quoted(word) {
  return /^[\w@%+=:,./-]+$/.test(word) ? word : `'${word.replaceAll("'", `'"'"'`)}'`;
}

function commandFor(number) {
  const chosen = detailsOf(number).again ?? [addressOf(rows[number])];
  return ["wolfbane", "run", ...index.pointed, ...chosen].map(quoted).join(" ");
}

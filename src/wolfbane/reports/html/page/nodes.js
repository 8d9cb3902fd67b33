// Every text becomes a text node: nothing that a test said is ever read as markup.
const MARKS = {passed: "✓", flaky: "↻", failed: "✗", errored: "!", "timed out": "◷", crashed: "↯", blocked: "⊘", skipped: "–", todo: "○"};
const DIFF = {"+": "more", "-": "less", "?": "hint"};

function node(kind, attributes = {}, ...children) {
  const made = document.createElement(kind);
  for (const [name, value] of Object.entries(attributes)) {
    if (value !== undefined && value !== false) made.setAttribute(name, value === true ? "" : value);
  }
  made.append(...children.flat().filter((child) => child !== null && child !== undefined && child !== ""));
  return made;
}

function mark(outcome) {
  const name = index.outcomes[outcome];
  return node("span", {class: `mark o-${name.replace(" ", "-")}`, title: name}, MARKS[name]);
}

function message(text) {
  const lines = text.split("\n").map((line, at) => node("span", {class: (at && DIFF[line[0]]) || ""}, `${line}\n`));
  return node("pre", {class: "message"}, lines);
}

function code(excerpt) {
  const lines = excerpt.lines.map((line, at) => {
    const number = excerpt.first + at;
    return node("span", {class: number === excerpt.line ? "here" : ""}, node("i", {}, String(number)), `${line}\n`);
  });
  return node("figure", {class: "code"}, node("figcaption", {}, `${excerpt.file}:${excerpt.line}`), node("pre", {}, lines));
}

function folded(title, open, ...children) {
  return node("details", {open}, node("summary", {}, ...title), node("div", {}, ...children));
}

function command(text) {
  return node("p", {class: "command"}, node("code", {}, text), node("button", {class: "copy", type: "button"}, "Copy"));
}

function tag(text) {
  return text ? node("span", {class: "tag"}, text) : null;
}

async function copy(button) {
  const text = button.parentNode.querySelector("code").textContent;
  try {
    await navigator.clipboard.writeText(text);
    button.textContent = "Copied";
  } catch {
    getSelection().selectAllChildren(button.parentNode.querySelector("code"));
    button.textContent = "Selected";
  }
  setTimeout(() => { button.textContent = "Copy"; }, 1500);
}

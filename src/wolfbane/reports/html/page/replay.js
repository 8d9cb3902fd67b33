// What a test did in a browser, command by command, beside the pictures of its page.
const ROUND = 1000;
let replays = [];

function seconds(at) {
  return `${at.toFixed(2)} s`;
}

function requestLine([at, took, method, url, status, kind, size, error]) {
  const answer = error || status || "no answer";
  return `${answer} ${method} ${url}${kind ? `, ${kind}` : ""}, ${Math.round(took * ROUND)} ms, ${size} bytes`;
}

// Every line of a replay at its time; those with a number are commands, which can be stepped to.
function replayLines(data) {
  const commands = data.commands.map(([at, took, words, answer, bad], number) => ({at, took, words, answer, bad, number}));
  const console = data.console.map(([at, level, text]) => ({at, kind: `console ${level}`, words: text, bad: /error|severe/.test(level)}));
  const network = data.network.map((each) => ({at: each[0], kind: "network", words: requestLine(each), bad: each[8]}));
  return [...commands, ...console, ...network].sort((a, b) => a.at - b.at);
}

// The picture that shows the page after a command: the last one taken before the next command.
// A session that has ended is still looked at: its end comes before the last picture.
function pictureAfter(data, number) {
  const [next] = data.commands.slice(number + 1).find((each) => each[2] !== "end the session") ?? [Infinity];
  const at = data.pictures.filter((time) => time <= next).length - 1;
  return Math.max(at, 0);
}

function captionOf(data, number, picture) {
  const [at, took] = data.commands[number];
  const taken = data.pictures[picture];
  const shot = data.shots.find(([time]) => time === taken);
  const when = taken < at ? ", before this command" : taken > at + took + 1 ? ", later" : "";
  return `the page at ${seconds(taken)}${when}${shot ? `: ${shot[1]}, ${shot[2]}` : ""}`;
}

function replayRow(line, choose) {
  const time = node("span", {class: "at"}, seconds(line.at));
  if (line.number === undefined) return node("li", {class: line.bad ? "bad" : "aside"}, time, node("span", {}, `${line.kind}: ${line.words}`));
  const words = node("span", {}, line.words, node("span", {class: "path"}, ` ${line.answer}, ${Math.round(line.took * ROUND)} ms`));
  const button = node("button", {type: "button", class: line.bad ? "bad" : ""}, time, words);
  button.addEventListener("click", () => choose(line.number));
  return node("li", {}, button);
}

function replay(data, pictures) {
  const image = node("img", {alt: ""}), caption = node("figcaption", {}), count = node("span", {class: "path"});
  const rows = node("ol", {class: "commands"});
  const bad = data.commands.findLastIndex((each) => each[4]);
  let current = 0;
  function choose(number) {
    current = Math.min(Math.max(number, 0), data.commands.length - 1);
    rows.querySelector("[aria-current]")?.removeAttribute("aria-current");
    const row = rows.querySelectorAll("button")[current];
    row.setAttribute("aria-current", "step");
    rows.scrollTop = row.offsetTop - rows.offsetTop - rows.clientHeight / 2;
    count.textContent = `command ${current + 1} of ${data.commands.length}`;
    const picture = pictureAfter(data, current);
    image.hidden = !pictures[picture];
    if (pictures[picture]) {
      image.src = pictures[picture].picture;
      image.alt = caption.textContent = captionOf(data, current, picture);
    } else caption.textContent = "No screenshot of this page was taken.";
  }
  rows.append(...replayLines(data).map((line) => replayRow(line, choose)));
  const step = (by, words, sign) => {
    const button = node("button", {type: "button", title: words, "aria-label": words}, sign);
    button.addEventListener("click", () => choose(current + by));
    return button;
  };
  const shared = data.shared ? node("p", {class: "note"}, "Several tests ran at the same time. Some commands may belong to another test.") : null;
  const made = node("section", {class: "replay"},
    node("p", {class: "steps"}, step(-1, "Previous command (←)", "←"), step(1, "Next command (→)", "→"), count, node("span", {class: "path"}, `session ${data.session}`)),
    shared, node("div", {class: "both"}, node("figure", {}, image, caption), rows));
  replays.push((by) => choose(current + by));
  requestAnimationFrame(() => choose(bad < 0 ? data.commands.length - 1 : bad));
  return made;
}

// Evidence in order, with the pictures of each session inside of its replay.
function withReplays(kept) {
  const others = [], waiting = [], found = [];
  for (const each of kept) {
    if (["screenshot", "picture"].includes(each.kind) && !each.name) waiting.push(each);
    else if (each.replay) found.push(replay(each.replay, waiting.splice(0)));
    else others.push(each);
  }
  return [...found, ...evidence([...waiting, ...others])];
}

function stepReplay(by) {
  replays[0]?.(by);
  return replays.length > 0;
}

// The worker for suites of kind `node`: loads one test file, and says or runs its tests.
//
// The runtime's own test module does the running. Test files get it through wrappers that
// register the tests that were asked for, and no other. One process serves one request.
'use strict';

// Set if Wolfbane itself runs inside of a test of this runtime: its module would then report to that.
delete process.env.NODE_TEST_CONTEXT;

const fs = require('node:fs');
const Module = require('node:module');
const path = require('node:path');
const { pathToFileURL } = require('node:url');

const { Capture } = require('./capture.cjs');
const { Channel } = require('./channel.cjs');
const { install } = require('./module.cjs');
const { loadProblem } = require('./problems.cjs');
const { Collector } = require('./collector.cjs');
const { Runner } = require('./runner.cjs');
const { sourcesOf } = require('./sources.cjs');

const QUIET_MS = 100; // after a file was loaded: how long to wait for tests declared later

let options = null;
let capture = null;
const channel = new Channel(hear, () => process.exit(0));

function hear(message) {
  if (message.type === 'options') {
    options = message;
    capture = new Capture(options.capture);
  } else if (message.type === 'collect') {
    serve(() => collect(message.files[0]));
  } else if (message.type === 'run') {
    serve(() => run(message));
  }
}

/** Let the process look as if the file had been started by hand, and go. */
function serve(work) {
  process.execArgv.splice(0, process.execArgv.length, ...options.options);
  channel.hold(false);
  work().catch((error) => {
    process.stderr.write(`${error.stack}\n`);
    process.exit(70);
  });
}

function isModule(file) {
  if (file.endsWith('.cjs')) return false;
  if (!file.endsWith('.js')) return true;
  for (let folder = path.dirname(file); ; folder = path.dirname(folder)) {
    try {
      return JSON.parse(fs.readFileSync(path.join(folder, 'package.json'), 'utf8')).type === 'module';
    } catch {
      if (folder === path.dirname(folder)) return false;
    }
  }
}

async function load(place, registry) {
  const file = path.join(options.root, place);
  const esm = isModule(file);
  process.argv.splice(1, process.argv.length, file);
  install(registry, { file, esm, globals: options.bare_words });
  if (esm) await import(pathToFileURL(file).href);
  else Module._load(file, null, true);
}

async function collect(place) {
  channel.send({ type: 'collecting', file: place });
  const file = path.join(options.root, place);
  const collector = new Collector(place, options, channel);
  let problem = {};
  try {
    const stuck = collector.idle.then(() => { throw new Error('the file never finished loading: it awaits a promise that is never settled'); });
    await Promise.race([load(place, collector), stuck]);
    await collector.settled(QUIET_MS);
  } catch (error) {
    problem = { ...loadProblem(error, file), output: capture.take() };
  }
  if (!problem.outcome) collector.tell();
  const depends = sourcesOf(file, options.root);
  const done = { type: 'collected', file: place, divisible: false, depends };
  channel.send({ ...done, ...problem });
  channel.hold(true);
}

async function run(request) {
  const runner = new Runner(request, options, channel, capture);
  process.on('uncaughtExceptionMonitor', (error) => runner.stray(error));
  try {
    await load(request.file, runner);
    runner.loaded();
  } catch (error) {
    runner.unloadable(loadProblem(error, path.join(options.root, request.file)));
  }
  await runner.ended;
  runner.account();
  channel.send({ type: 'ran', file: request.file, spoiled: runner.spoiled });
  channel.hold(true);
}

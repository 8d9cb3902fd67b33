// A reporter for the runtime's own runner: one JSON row [file, name, outcome] for each test.
//
//     node --test --test-reporter=node.mjs FILE...
//
// Events of nested tests come between the start and the end of the test around them, and those of
// one file after the other, so one stack of names is enough.
export default async function* rows(events) {
  const names = [];
  let file;
  for await (const { type, data } of events) {
    if (type === 'test:start') {
      names.length = data.nesting;
      names.push(data.name);
      if (data.nesting === 0) file = data.file;
    } else if (type === 'test:pass' || type === 'test:fail') {
      if (data.details?.type === 'suite') continue;
      let outcome = type === 'test:pass' ? 'passed' : 'failed';
      // A test before it never ended, so the runner did not start this one.
      if (data.details?.error?.failureType === 'cancelledByParent') outcome = 'cancelled';
      if (data.skip !== undefined) outcome = 'skipped';
      if (data.todo !== undefined) outcome = 'todo';
      const name = [...names.slice(0, data.nesting), data.name].join(' / ');
      yield `${JSON.stringify([file ?? '', name, outcome])}\n`;
    }
  }
}

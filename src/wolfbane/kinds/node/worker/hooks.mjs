// Import hooks that hand out the replaced test module, its default export included.

let names = [];

export async function initialize(data) {
  names = data.names;
}

export async function resolve(specifier, context, next) {
  if (specifier !== 'node:test') return next(specifier, context);
  return { url: 'wolfbane:test', shortCircuit: true };
}

export async function load(url, context, next) {
  if (url !== 'wolfbane:test') return next(url, context);
  const source = `const words = globalThis[Symbol.for('wolfbane.test')];
export default words;
${names.filter((name) => name !== 'default').map((name) => `export const ${name} = words.${name};`).join('\n')}`;
  return { format: 'module', source, shortCircuit: true };
}

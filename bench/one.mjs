// One of the measurements, in a process of its own: node --expose-gc bench/one.mjs ./guard.mjs measureGuard
const [file, name] = process.argv.slice(2);
const { [name]: measure } = await import(file);
const result = await measure();
if (process.send) process.send({ result }, () => process.exit());
else console.log(JSON.stringify(result, undefined, 2));

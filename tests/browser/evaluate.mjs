// Evaluates expressions over the interface's pure functions: one request a line in, one answer a line out.
// Arguments: the interface's folder, a folder for what is compiled, and the sources below the first.
import fs from "node:fs";
import { createRequire } from "node:module";
import path from "node:path";
import readline from "node:readline";
import { pathToFileURL } from "node:url";

const [web, out, ...sources] = process.argv.slice(2);
const ts = createRequire(path.join(web, "package.json"))("typescript");
const options = { target: ts.ScriptTarget.ES2022, module: ts.ModuleKind.ES2022 };
fs.writeFileSync(path.join(out, "package.json"), '{"type": "module"}');
for (const source of sources) {
  const text = fs.readFileSync(path.join(web, "src", source), "utf8");
  const target = path.join(out, source.replace(/\.ts$/, ".js"));
  fs.mkdirSync(path.dirname(target), { recursive: true });
  fs.writeFileSync(target, ts.transpileModule(text, { compilerOptions: options }).outputText);
}
for await (const line of readline.createInterface({ input: process.stdin })) {
  const { module, expression, cases } = JSON.parse(line);
  let answer;
  try {
    const m = await import(pathToFileURL(path.join(out, `${module}.js`)));
    const evaluate = new Function("m", "it", `return (${expression});`);
    answer = { values: cases.map((it) => evaluate(m, it)) };
  } catch (error) {
    answer = { error: error.stack };
  }
  process.stdout.write(`${JSON.stringify(answer)}\n`);
}

// Runs a script in MicroPython itself, under node: node micropython.mjs MODULE FOLDER SCRIPT.
// All files of the folder are there for it; what it writes into the file "out" is in the folder afterwards.
import { readFileSync, readdirSync, writeFileSync } from "node:fs";
import { pathToFileURL } from "node:url";

const [module, folder, script] = process.argv.slice(2);
const { loadMicroPython } = await import(pathToFileURL(module));
const python = await loadMicroPython({ heapsize: 64 * 1024 * 1024, linebuffer: true });
for (const name of readdirSync(folder)) python.FS.writeFile("/" + name, readFileSync(`${folder}/${name}`));
try {
    python.runPython(readFileSync(`${folder}/${script}`, "utf8"));
} catch (problem) {
    console.error(problem.message);
    process.exit(1);
}
if (python.FS.analyzePath("/out").exists) writeFileSync(`${folder}/out`, python.FS.readFile("/out"));

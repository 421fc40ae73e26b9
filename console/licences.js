// Collects the licences of what the built console contains into licences.txt beside it: most of them ask that their
// notice goes with every copy.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";

const TEXT = /^(licen[cs]e|notice|ofl|copying)(\.|$|-)/i;

const { packages } = JSON.parse(readFileSync("package-lock.json", "utf8"));
const contained = Object.entries(packages).filter(([place, { dev, optional }]) => place && !dev && !optional);
const notices = contained.map(([place, { version, license }]) => {
  const texts = readdirSync(place).filter((name) => TEXT.test(name));
  const said = texts.map((name) => readFileSync(`${place}/${name}`, "utf8").trim()).join("\n\n");
  const name = place.replace(/^.*node_modules\//, "");
  return `${name} ${version} (${license})\n\n${said || "The package brings no text of its licence."}\n`;
});
writeFileSync("../src/plumcrate/api/static/licences.txt", notices.sort().join(`\n${"-".repeat(78)}\n\n`));

// The docs, as they lie in the project's folder: put in the console when it is built, and read when they are asked for.

import { useQuery } from "@tanstack/react-query";

import { Refused } from "./api";

const FILES = import.meta.glob<string>("../../../docs/*.md", { query: "?raw", import: "default" });

/** What readers look for first comes first. */
const ORDER = ["suite-file", "command-line", "watching", "after-a-run", "starting", "where-runs-execute", "sharding", "measures", "notices", "service", "security", "rights", "benchmarks", "architecture"];

export interface Doc {
  name: string;
  title: string;
  text: string;
}

const nameOf = (path: string) => path.split("/").at(-1)?.replace(/\.md$/, "") ?? path;
const place = (name: string) => (ORDER.includes(name) ? ORDER.indexOf(name) : ORDER.length);

async function read(): Promise<Doc[]> {
  const all = await Promise.all(
    Object.entries(FILES).map(async ([path, load]) => {
      const text = await load();
      return { name: nameOf(path), title: /^# (.*)$/m.exec(text)?.[1] ?? nameOf(path), text };
    }),
  );
  return all.sort((a, b) => place(a.name) - place(b.name) || a.name.localeCompare(b.name));
}

export const useDocs = () => useQuery({ queryKey: ["docs"], queryFn: read, staleTime: Infinity });

/** What a heading is called in an address. */
export const anchor = (heading: string) =>
  heading
    .toLowerCase()
    .replace(/[^\p{L}\p{N}\s_-]/gu, "")
    .trim()
    .replace(/\s/g, "-");

export interface Section {
  doc: Doc;
  heading: string;
  text: string;
}

/** The parts of a doc: what stands under each heading. Lines of examples are no headings. */
export function sectionsOf(doc: Doc): Section[] {
  const found: Section[] = [{ doc, heading: doc.title, text: "" }];
  let example = false;
  for (const line of doc.text.split("\n")) {
    if (line.startsWith("```")) example = !example;
    const heading = example ? null : /^#{2,4} (.*)$/.exec(line);
    if (heading) found.push({ doc, heading: heading[1].replaceAll("`", ""), text: "" });
    else if (!/^# /.test(line) || example) found[found.length - 1].text += `${line}\n`;
  }
  return found;
}

/** Parts in which all words stand; those with a word in their heading come first. */
export function search(docs: Doc[], asked: string): Section[] {
  const words = asked.toLowerCase().split(/\s+/).filter(Boolean);
  if (words.length === 0) return [];
  const has = (text: string) => words.filter((word) => text.toLowerCase().includes(word)).length;
  const all = docs.flatMap(sectionsOf).filter((s) => has(`${s.heading} ${s.text}`) === words.length);
  return all.sort((a, b) => has(b.heading) - has(a.heading)).slice(0, 50);
}

/** A line of a part in which one of the words stands. */
export function lineWith(section: Section, asked: string): string {
  const words = asked.toLowerCase().split(/\s+/).filter(Boolean);
  const lines = section.text.replace(/[`|*]|\]\([^)]*\)|\[/g, " ").split("\n").filter((line) => /\p{L}/u.test(line));
  const best = lines.find((line) => words.some((word) => line.toLowerCase().includes(word))) ?? lines[0] ?? "";
  const at = Math.max(0, best.toLowerCase().indexOf(words[0] ?? "") - 60);
  return `${at > 0 ? "…" : ""}${best.slice(at, at + 220)}${best.length > at + 220 ? "…" : ""}`;
}

export interface Operation {
  method: string;
  path: string;
  tag: string;
  about: string;
  parameters: { name: string; place: string; needed: boolean }[];
  answers: string[];
}

interface Described {
  tags?: string[];
  summary?: string;
  description?: string;
  parameters?: { name: string; in: string; required?: boolean }[];
  responses?: Record<string, unknown>;
}

/** Every call of the API, by its document. */
export const useOperations = () =>
  useQuery({
    queryKey: ["openapi"],
    staleTime: Infinity,
    queryFn: async ({ signal }) => {
      // The document is not one of the calls that it describes.
      const answer = await fetch("/api/openapi.json", { signal });
      if (!answer.ok) throw new Refused(answer.status, "The API's document cannot be read.");
      const document: { paths: Record<string, Record<string, Described>> } = await answer.json();
      return Object.entries(document.paths).flatMap(([path, item]) =>
        Object.entries(item).map(([method, of]): Operation => {
          const parameters = (of.parameters ?? []).map((p) => ({ name: p.name, place: p.in, needed: p.required ?? false }));
          return { method: method.toUpperCase(), path, tag: of.tags?.[0] ?? "other", about: [of.summary, of.description].filter(Boolean).join(" "), parameters, answers: Object.keys(of.responses ?? {}) };
        }),
      );
    },
  });

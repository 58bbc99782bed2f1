// Looks over a page for what keeps people from using it: contrast, names, roles, order. Answers with a list of what is wrong.
// The rules follow the WCAG 2.2: 1.1.1, 1.3.1, 1.4.3, 2.4.3, 2.4.6, 3.1.1, 4.1.2.

const wrong = [];
const where = (e) => {
  const text = (e.getAttribute("aria-label") || e.textContent || "").trim().slice(0, 40);
  return `<${e.tagName.toLowerCase()}${e.id ? `#${e.id}` : ""}${e.className && e.className.baseVal === undefined ? `.${String(e.className).trim().replace(/\s+/g, ".")}` : ""}> "${text}"`;
};
const seen = (e) => {
  if (e.closest("[hidden], [aria-hidden=true]")) return false;
  const style = getComputedStyle(e);
  const box = e.getBoundingClientRect();
  return style.visibility !== "hidden" && style.display !== "none" && box.width > 0 && box.height > 0;
};

// Contrast of every text against what lies behind it.
const context = document.createElement("canvas").getContext("2d", { willReadFrequently: true });
const parse = (colour) => {
  context.clearRect(0, 0, 1, 1);
  context.fillStyle = "#000";
  context.fillStyle = colour;
  context.fillRect(0, 0, 1, 1);
  const [r, g, b, a] = context.getImageData(0, 0, 1, 1).data;
  return [r, g, b, a / 255];
};
const over = (top, under) => [0, 1, 2].map((i) => top[i] * top[3] + under[i] * (1 - top[3])).concat(1);
const luminance = (c) => {
  const part = (v) => (v / 255 <= 0.04045 ? v / 255 / 12.92 : ((v / 255 + 0.055) / 1.055) ** 2.4);
  return 0.2126 * part(c[0]) + 0.7152 * part(c[1]) + 0.0722 * part(c[2]);
};
const behind = (e) => {
  const layers = [];
  for (let at = e; at; at = at.parentElement) layers.push(parse(getComputedStyle(at).backgroundColor));
  return layers.reverse().reduce((under, layer) => over(layer, under), [255, 255, 255, 1]);
};
const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
for (let node = walker.nextNode(); node; node = walker.nextNode()) {
  const e = node.parentElement;
  if (!node.textContent.trim() || !seen(e) || e.closest("svg, script, style, .visually-hidden, :disabled")) continue;
  const style = getComputedStyle(e);
  const ground = behind(e);
  const ink = over(parse(style.color), ground);
  const [light, dark] = [luminance(ink), luminance(ground)].sort((a, b) => b - a);
  const ratio = (light + 0.05) / (dark + 0.05);
  const px = parseFloat(style.fontSize);
  const large = px >= 24 || (px >= 18.66 && Number(style.fontWeight) >= 700);
  if (ratio < (large ? 3 : 4.5)) wrong.push(`contrast ${ratio.toFixed(2)}: ${where(e)} ${node.textContent.trim().slice(0, 30)}`);
}

// Names: everything that is used or seen has one.
const text = (id) => document.getElementById(id)?.textContent.trim() ?? "";
const name = (e) => {
  const labelled = (e.getAttribute("aria-labelledby") ?? "").split(/\s+/).filter(Boolean).map(text).join(" ");
  const label = e.id ? document.querySelector(`label[for="${CSS.escape(e.id)}"]`)?.textContent.trim() : "";
  const alt = [...e.querySelectorAll("img[alt]")].map((i) => i.alt).join(" ");
  return labelled || e.getAttribute("aria-label") || label || e.closest("label")?.textContent.trim() || e.getAttribute("alt") || e.textContent.trim() || alt || e.getAttribute("title") || "";
};
for (const e of document.querySelectorAll("a[href], button, summary, [role=button], [role=link], [tabindex='0']")) {
  if (seen(e) && !name(e).trim()) wrong.push(`no name: ${where(e)}`);
}
for (const e of document.querySelectorAll("input, select, textarea")) {
  const own = name(e).trim();
  if (seen(e) && e.type !== "hidden" && !own) wrong.push(`no label: ${where(e)} ${e.placeholder}`);
}
for (const e of document.querySelectorAll("img, [role=img], video, canvas, svg[role]")) {
  if (seen(e) && !name(e).trim() && e.getAttribute("alt") !== "") wrong.push(`no text instead: ${where(e)}`);
}

// Roles: known ones, within what they need, and nothing that is used by keyboard hidden from those who do not see.
const needs = { option: "listbox", row: "table, grid, rowgroup", cell: "row", columnheader: "row", listitem: "list" };
for (const [role, owner] of Object.entries(needs)) {
  const within = owner.split(", ").map((r) => `[role=${r}]`).join(", ");
  for (const e of document.querySelectorAll(`[role=${role}]`)) if (!e.parentElement.closest(within)) wrong.push(`role ${role} outside of ${owner}: ${where(e)}`);
}
for (const e of document.querySelectorAll("[aria-hidden=true] a[href], [aria-hidden=true] button, [aria-hidden=true] input")) wrong.push(`hidden but reached by keyboard: ${where(e)}`);
for (const e of document.querySelectorAll("[aria-controls], [aria-labelledby], [aria-describedby], [aria-activedescendant]")) {
  for (const key of ["aria-controls", "aria-labelledby", "aria-describedby", "aria-activedescendant"]) {
    const id = e.getAttribute(key);
    if (id && !document.getElementById(id)) wrong.push(`${key} names nothing: ${where(e)}`);
  }
}
const ids = [...document.querySelectorAll("[id]")].map((e) => e.id);
for (const id of new Set(ids.filter((id, i) => ids.indexOf(id) !== i))) wrong.push(`two elements are called #${id}`);
for (const table of document.querySelectorAll("table")) {
  if (!table.querySelector("th") && table.rows.length > 3) wrong.push(`a table without heads: ${where(table)}`);
}
for (const e of document.querySelectorAll("ul, ol")) {
  if (e.getAttribute("role") === "listbox") continue;
  for (const child of e.children) if (child.tagName !== "LI") wrong.push(`a list holds a ${child.tagName.toLowerCase()}: ${where(e)}`);
}

// Order: one main part, headings that do not skip, and the keyboard goes as one reads.
if (document.querySelectorAll("main").length !== 1) wrong.push(`${document.querySelectorAll("main").length} main parts`);
if (!document.documentElement.lang) wrong.push("the page does not say its language");
if (!document.title) wrong.push("the page has no title");
let level = 0;
for (const h of [...document.querySelectorAll("h1, h2, h3, h4, h5, h6")].filter(seen)) {
  const own = Number(h.tagName[1]);
  if (own > level + 1) wrong.push(`heading ${own} after ${level}: ${where(h)}`);
  level = own;
}
if ([...document.querySelectorAll("h1")].filter(seen).length !== 1) wrong.push(`${[...document.querySelectorAll("h1")].filter(seen).length} headings of the first level`);
for (const e of document.querySelectorAll("[tabindex]")) if (Number(e.getAttribute("tabindex")) > 0) wrong.push(`tabindex above 0: ${where(e)}`);

return [...new Set(wrong)];

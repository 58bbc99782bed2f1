// What a test printed, cut into lines of pieces with their colours (ECMA-48, SGR). Everything else that an escape sequence
// could do is left out, so that output stays text.

import { plain } from "./words";

export interface Piece {
  text: string;
  /** A class for a colour of the sixteen, or none. */
  colour: string;
  /** A colour of the 256 or of all, as CSS. */
  exact?: string;
  bold: boolean;
  dim: boolean;
}

const NAMES = ["black", "red", "green", "yellow", "blue", "magenta", "cyan", "white"];

interface Style {
  colour: string;
  exact?: string;
  bold: boolean;
  dim: boolean;
}

const PLAIN: Style = { colour: "", bold: false, dim: false };

// Colours that a terminal would write, control sequences (CSI), strings (OSC and others), and other escapes.
// eslint-disable-next-line no-control-regex
const ESCAPE = /\u001b(?:\[([0-9;:]*)m|\[[0-?]*[ -/]*[@-~]?|[\]PX^_][^\u0007\u001b\n]*(?:\u0007|\u001b\\)?|[^[\]PX^_]?)/g;

export function linesOf(text: string): Piece[][] {
  const lines: Piece[][] = [[]];
  let style = PLAIN;
  const add = (part: string) => {
    const split = part.replace(/\r\n/g, "\n").replace(/\r/g, "\n").split("\n");
    split.forEach((line, i) => {
      if (i > 0) lines.push([]);
      const shown = plain(line);
      if (shown) lines[lines.length - 1].push({ text: shown, ...style });
    });
  };
  let from = 0;
  for (const match of text.matchAll(ESCAPE)) {
    add(text.slice(from, match.index));
    from = match.index + match[0].length;
    if (match[1] !== undefined) style = styled(style, match[1]);
  }
  add(text.slice(from));
  // A last line end ends the last line; it does not begin another.
  if (lines.length > 1 && lines[lines.length - 1].length === 0) lines.pop();
  return lines;
}

function styled(before: Style, parameters: string): Style {
  let style = { ...before };
  const codes = parameters === "" ? [0] : parameters.split(/[;:]/).map(Number);
  for (let i = 0; i < codes.length; i += 1) {
    const code = codes[i];
    if (code === 0) style = { ...PLAIN };
    else if (code === 1) style.bold = true;
    else if (code === 2) style.dim = true;
    else if (code === 22) style.bold = style.dim = false;
    else if (code === 39) [style.colour, style.exact] = ["", undefined];
    else if (code >= 30 && code <= 37) [style.colour, style.exact] = [NAMES[code - 30], undefined];
    else if (code >= 90 && code <= 97) [style.colour, style.exact] = [NAMES[code - 90], undefined];
    else if (code === 38 || code === 48) {
      const exact = codes[i + 1] === 5 ? ofCube(codes[i + 2]) : codes[i + 1] === 2 ? `rgb(${[2, 3, 4].map((n) => Math.min(255, codes[i + n] || 0)).join(" ")})` : "";
      if (code === 38) {
        const low = codes[i + 1] === 5 && codes[i + 2] < 16 ? NAMES[codes[i + 2] % 8] : "";
        [style.colour, style.exact] = [low, low ? undefined : exact || undefined];
      }
      i += codes[i + 1] === 5 ? 2 : codes[i + 1] === 2 ? 4 : 0;
    }
  }
  return style;
}

/** A colour of the cube of 256. */
function ofCube(n: number): string {
  if (!(n >= 16 && n <= 255)) return "";
  if (n >= 232) return `rgb(${Array(3).fill(8 + (n - 232) * 10).join(" ")})`;
  const part = (v: number) => (v === 0 ? 0 : 55 + v * 40);
  return `rgb(${part(Math.floor((n - 16) / 36))} ${part(Math.floor((n - 16) / 6) % 6)} ${part((n - 16) % 6)})`;
}

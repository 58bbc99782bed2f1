// The settings of a run, to choose: the same for a start, a brief and a schedule.

import { useState } from "react";
import { Col, Form, Row } from "react-bootstrap";

import type { Brief, RunOptions, SuiteDetail } from "../data/api";

/** `key=value` lines as an object; the first line that is none is told. */
export function pairs(text: string): Record<string, string> | string {
  const found: Record<string, string> = {};
  for (const line of text.split("\n").map((l) => l.trim()).filter(Boolean)) {
    const cut = line.indexOf("=");
    if (cut < 1) return `"${line}" is not key=value`;
    found[line.slice(0, cut).trim()] = line.slice(cut + 1);
  }
  return found;
}

export const lines = (text: string) => text.split("\n").map((l) => l.trim()).filter(Boolean);

type NumberFieldProps = {
  id: string;
  label: string;
  min: number;
  max?: number;
  /** As typed; empty is "not said". */
  value: string;
  onChange: (typed: string) => void;
  /** What holds when nothing is typed. */
  placeholder: string;
};

function NumberField({ id, label, onChange, ...field }: NumberFieldProps) {
  return (
    <Form.Group as={Col} xs={4} className="mb-3" controlId={id}>
      <Form.Label>{label}</Form.Label>
      <Form.Control type="number" {...field} onChange={(e) => onChange(e.target.value)} />
    </Form.Group>
  );
}


/** The settings as they are typed. */
export interface Choice {
  pick: string;
  drop: string;
  variants: string[];
  retries: string;
  shards: string;
  labels: string;
  settings: string;
  env: string;
  image: string;
  seed: string;
  repeat: string;
  eachSlot: boolean;
  order: string;
  priority: string;
  runParked: boolean;
  flakyFails: boolean;
  branch: string;
  pool: string;
  within: string;
  budget: string;
}

/** A length of time as it is typed, in microseconds; what cannot be read is not a number. */
export function micros(text: string): number | null {
  if (text.trim() === "") return null;
  const [, number, unit] = /^([0-9.]+)\s*(ms|s|m|h)$/.exec(text.trim()) ?? [];
  return Math.round(Number(number) * ({ ms: 1e3, s: 1e6, m: 60e6, h: 3600e6 }[unit] ?? NaN));
}

/** And as one types it. */
export function written(us: number | null | undefined): string {
  if (us == null) return "";
  if (us > 0 && us % 3600e6 === 0) return `${us / 3600e6}h`;
  if (us > 0 && us % 60e6 === 0) return `${us / 60e6}m`;
  return us % 1e6 === 0 ? `${us / 1e6}s` : `${Math.ceil(us / 1e3)}ms`;
}

const typed = (n: number | null | undefined) => (n == null ? "" : String(n));
const asLines = (of: Record<string, string> | undefined) => Object.entries(of ?? {}).map(([k, v]) => `${k}=${v}`).join("\n");

export function choiceOf(brief?: Brief): Choice {
  const o = brief?.options;
  return {
    pick: o?.pick?.join("\n") ?? "",
    drop: o?.drop?.join("\n") ?? "",
    variants: o?.variants ?? [],
    retries: typed(o?.retries),
    shards: typed(o?.shards),
    labels: asLines(o?.labels),
    settings: asLines(o?.set),
    env: o?.env ?? "",
    image: o?.image ?? "",
    seed: typed(o?.seed),
    repeat: typed(o?.repeat),
    eachSlot: o?.each_slot ?? false,
    order: o?.shuffle ? "shuffled" : o?.recent_failures_first ? "failed" : "longest",
    priority: o?.priority ?? "normal",
    runParked: o?.run_parked ?? false,
    flakyFails: o?.flaky_fails ?? false,
    branch: brief?.branch ?? "",
    pool: brief?.pool ?? "",
    within: written(o?.within),
    budget: written(o?.budget),
  };
}

export function useChoice(brief?: Brief): [Choice, (change: Partial<Choice>) => void] {
  const [choice, put] = useState<Choice>(() => choiceOf(brief));
  return [choice, (change) => put((before) => ({ ...before, ...change }))];
}

/** What is chosen, as the service takes it; or what is wrong with it. */
export function optionsOf(c: Choice): Partial<RunOptions> | string {
  const [labelled, set] = [pairs(c.labels), pairs(c.settings)];
  const number = (text: string) => (text.trim() === "" ? null : Number(text));
  if (typeof labelled === "string") return `Labels: ${labelled}`;
  if (typeof set === "string") return `Settings: ${set}`;
  const [within, budget] = [micros(c.within), micros(c.budget)];
  if (Number.isNaN(within) || Number.isNaN(budget)) return "Within and budget are lengths of time, like 90s, 5m or 1h";
  return {
    pick: lines(c.pick),
    drop: lines(c.drop),
    variants: c.variants,
    retries: number(c.retries),
    shards: number(c.shards),
    seed: number(c.seed),
    labels: labelled,
    set,
    env: c.env === "" ? null : c.env,
    image: c.image.trim() === "" ? null : c.image.trim(),
    repeat: number(c.repeat),
    each_slot: c.eachSlot,
    shuffle: c.order === "shuffled",
    recent_failures_first: c.order === "failed",
    priority: c.priority === "normal" ? null : (c.priority as "low" | "high"),
    run_parked: c.runParked,
    flaky_fails: c.flakyFails,
    within,
    budget,
  };
}

export function ChoiceFields({ choice: c, set, suite: s }: { choice: Choice; set: (change: Partial<Choice>) => void; suite: SuiteDetail | undefined }) {
  const turn = (variant: string) => set({ variants: c.variants.includes(variant) ? c.variants.filter((v) => v !== variant) : [...c.variants, variant] });
  return (
    <>
      <Row>
        <Form.Group as={Col} md={6} className="mb-3" controlId="pick">
          <Form.Label>Pick</Form.Label>
          <Form.Control as="textarea" rows={2} className="name" value={c.pick} onChange={(e) => set({ pick: e.target.value })} placeholder={"gate/**\ntag:smoke"} />
          <Form.Text>One a line: a glob on the name, tag:WORD or regex:REGEX. Empty: all tests.</Form.Text>
        </Form.Group>
        <Form.Group as={Col} md={6} className="mb-3" controlId="drop">
          <Form.Label>Drop</Form.Label>
          <Form.Control as="textarea" rows={2} className="name" value={c.drop} onChange={(e) => set({ drop: e.target.value })} placeholder="tag:slow" />
          <Form.Text>A drop wins over a pick.</Form.Text>
        </Form.Group>
      </Row>
      {s && s.facets.length > 0 ? (
        <fieldset className="mb-3">
          <legend>Variants</legend>
          {s.facets.map((facet) => (
            <div key={facet.name} className="facet">
              <span className="name">{facet.name}</span>
              {facet.values.map((value) => {
                const variant = `${facet.name}=${value}`;
                return <Form.Check key={variant} inline type="checkbox" id={variant} label={value} checked={c.variants.includes(variant)} onChange={() => turn(variant)} />;
              })}
            </div>
          ))}
          <Form.Text>None chosen: all.</Form.Text>
        </fieldset>
      ) : null}
      <Row>
        <NumberField id="retries" label="Retries" min={0} max={100} value={c.retries} onChange={(v) => set({ retries: v })} placeholder={s ? String(s.retries) : ""} />
        <NumberField id="shards" label="Shards" min={1} value={c.shards} onChange={(v) => set({ shards: v })} placeholder="all slots" />
        <NumberField id="seed" label="Seed" min={0} value={c.seed} onChange={(v) => set({ seed: v })} placeholder="random" />
      </Row>
      <Row>
        <NumberField id="repeat" label="Repeat" min={1} value={c.repeat} onChange={(v) => set({ repeat: v })} placeholder="once" />
        <Form.Group as={Col} xs={4} className="mb-3" controlId="order">
          <Form.Label>Order</Form.Label>
          <Form.Select value={c.order} onChange={(e) => set({ order: e.target.value })}>
            <option value="longest">longest first</option>
            <option value="failed">recently failed first</option>
            <option value="shuffled">shuffled by the seed</option>
          </Form.Select>
        </Form.Group>
        <Form.Group as={Col} xs={4} className="mb-3" controlId="priority">
          <Form.Label>Priority</Form.Label>
          <Form.Select value={c.priority} onChange={(e) => set({ priority: e.target.value })}>
            {["low", "normal", "high"].map((word) => (
              <option key={word}>{word}</option>
            ))}
          </Form.Select>
        </Form.Group>
      </Row>
      <div className="mb-3">
        <Form.Check inline type="checkbox" id="each-slot" label="Each test on all shards at once, as one load" checked={c.eachSlot} onChange={(e) => set({ eachSlot: e.target.checked })} />
        <Form.Check inline type="checkbox" id="run-parked" label={`Run parked tests, without counting${s && s.parks.length > 0 ? ` (${s.parks.filter((p) => !p.over).length} parked)` : ""}`} checked={c.runParked} onChange={(e) => set({ runParked: e.target.checked })} />
        <Form.Check inline type="checkbox" id="flaky-fails" label="A flaky test fails the run" checked={c.flakyFails} onChange={(e) => set({ flakyFails: e.target.checked })} />
      </div>
      <Row>
        <Form.Group as={Col} md={6} className="mb-3" controlId="labels">
          <Form.Label>Labels</Form.Label>
          <Form.Control as="textarea" rows={2} className="name" value={c.labels} onChange={(e) => set({ labels: e.target.value })} placeholder="release=1187" />
        </Form.Group>
        {s && Object.keys(s.settings).length > 0 ? (
          <Form.Group as={Col} md={6} className="mb-3" controlId="settings">
            <Form.Label>Settings</Form.Label>
            <Form.Control as="textarea" rows={2} className="name" value={c.settings} onChange={(e) => set({ settings: e.target.value })} placeholder={Object.entries(s.settings).map(([k, v]) => `${k}=${v}`).join("\n")} />
          </Form.Group>
        ) : null}
      </Row>
      {s && s.environments.length > 0 ? (
        <Form.Group className="mb-3" controlId="env">
          <Form.Label>Environment</Form.Label>
          <Form.Select value={c.env} onChange={(e) => set({ env: e.target.value })}>
            <option value="">as the suite says</option>
            {s.environments.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </Form.Select>
        </Form.Group>
      ) : null}
      <Row>
        {s?.git ? (
          <Form.Group as={Col} md={6} className="mb-3" controlId="branch">
            <Form.Label>Branch</Form.Label>
            <Form.Control className="name" value={c.branch} onChange={(e) => set({ branch: e.target.value })} placeholder={s.git.branch ?? "the main branch"} />
          </Form.Group>
        ) : null}
        <Form.Group as={Col} md={6} className="mb-3" controlId="pool">
          <Form.Label>Pool</Form.Label>
          <Form.Control className="name" value={c.pool} onChange={(e) => set({ pool: e.target.value })} placeholder="main" />
        </Form.Group>
        <Form.Group as={Col} md={3} xs={6} className="mb-3" controlId="within">
          <Form.Label>Within</Form.Label>
          <Form.Control className="name" value={c.within} onChange={(e) => set({ within: e.target.value })} placeholder="5m" title="In a pool that starts machines: as many as it takes to be over within this time" />
        </Form.Group>
        <Form.Group as={Col} md={3} xs={6} className="mb-3" controlId="budget">
          <Form.Label>Budget</Form.Label>
          <Form.Control className="name" value={c.budget} onChange={(e) => set({ budget: e.target.value })} placeholder="30m of slots" title="In a pool that starts machines: slot-time that the run may cost" />
        </Form.Group>
        <Form.Group as={Col} md={6} className="mb-3" controlId="image">
          <Form.Label>Image</Form.Label>
          <Form.Control className="name" value={c.image} onChange={(e) => set({ image: e.target.value })} placeholder={s?.image ?? "none: as the processes are"} />
        </Form.Group>
      </Row>
    </>
  );
}

// Machines that pools start: how they stand, and what is known of them.

import { Table } from "react-bootstrap";
import { Link } from "react-router";

import { type MachineOf, useMachines } from "../data/pools";
import { When, plain, span } from "./words";

const STATES: Record<MachineOf["state"], [string, string]> = {
  asked: ["…", "tone-not-run"],
  coming: ["…", "tone-not-run"],
  up: ["≈", "tone-running"],
  leaving: ["▽", "tone-skipped"],
  ended: ["▽", "tone-not-run"],
  failed: ["⊘", "tone-void"],
};

function MachineState({ of }: { of: MachineOf["state"] }) {
  const [glyph, tone] = STATES[of];
  return (
    <span className={`${tone} text-nowrap`}>
      {glyph} {of}
    </span>
  );
}

/** What a pool's machines are called, with how many. */
export const counted = (count: number, what: string) => (count === 1 ? `1 ${what}` : `${count} ${what}s`);

const isOpen = (machine: MachineOf) => !["ended", "failed"].includes(machine.state);

/** A list of machines; with `log` each leads to what it printed. */
export function MachineTable({ machines, log }: { machines: MachineOf[]; log?: (machine: MachineOf) => string }) {
  return (
    <Table size="sm" hover className="dense">
      <thead>
        <tr>
          <th className="number">Number</th>
          <th>Machine</th>
          <th>State</th>
          {log ? null : <th>For</th>}
          <th>Asked</th>
          <th className="number">Up after</th>
          <th>What is known</th>
        </tr>
      </thead>
      <tbody>
        {machines.map((machine) => (
          <tr key={machine.name}>
            <td className="number">{machine.number}</td>
            <td className="name text-nowrap">{machine.link ? <a href={machine.link} target="_blank" rel="noreferrer">{machine.name}</a> : machine.name}</td>
            <td>
              <MachineState of={machine.state} />
            </td>
            {log ? null : <td>{machine.run ? <Link to={`/runs/${machine.run}`} className="name">{machine.run}</Link> : ""}</td>}
            <td className="text-nowrap">
              <When at={machine.asked_at} />
            </td>
            <td className="number">{machine.up_at ? span((Date.parse(machine.up_at) - Date.parse(machine.asked_at)) * 1000) : ""}</td>
            <td>
              {plain(machine.said)}
              {log ? <> · <a href={log(machine)} target="_blank" rel="noreferrer">what it printed</a></> : null}
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

/** The machines that a pool started for a run; nothing if none were. */
export function RunMachines({ run, over }: { run: string; over: boolean }) {
  const machines = useMachines(run, over).data ?? [];
  if (machines.length === 0) return null;
  const open = machines.filter(isOpen).length;
  const what = machines[0].what;
  return (
    <details className="machines" open={!over || machines.some((machine) => machine.state === "failed")}>
      <summary>
        {counted(machines.length, what)} of the pool {machines[0].pool}
        {open > 0 ? `, ${open} there` : ""}
      </summary>
      <MachineTable machines={machines.slice(-30)} log={(machine) => `/api/runs/${run}/machines/${machine.number}/log`} />
    </details>
  );
}

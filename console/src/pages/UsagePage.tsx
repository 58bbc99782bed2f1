import { useQuery } from "@tanstack/react-query";
import { Form, Table } from "react-bootstrap";
import { Link } from "react-router";

import { useAsked } from "../data/address";
import { api, told, useSuites } from "../data/api";
import type { components } from "../generated/api";
import { Empty } from "../parts/Frame";
import { DetailPage } from "../parts/Pages";
import { plain, span } from "../parts/words";

type Usage = components["schemas"]["Usage"];
type UsageRow = components["schemas"]["UsageRow"];

const WAYS = ["suite", "brief", "account", "pool", "month", "run"];

/** What runs took of slots, by what they have in common. */
export function UsagePage() {
  const { asked, set } = useAsked();
  const by = asked.get("by") ?? "suite";
  const value = (key: string) => asked.get(key) || undefined;
  const query = { by, suite: value("suite"), from: value("from"), until: value("until") };
  const usage = useQuery({ queryKey: ["usage", query], queryFn: ({ signal }) => told(api.GET("/api/usage", { params: { query }, signal })), retry: false, placeholderData: (before) => before });
  const suites = useSuites();
  return (
    <>
      <h1 className="figure">What runs took of slots</h1>
      <div className="ways" role="group" aria-label="Which runs">
        <Form.Select size="sm" className="kinds" aria-label="By" value={WAYS.includes(by) ? by : ""} onChange={(e) => set("by", e.target.value)}>
          {WAYS.map((way) => (
            <option key={way} value={way}>
              by {way}
            </option>
          ))}
          {WAYS.includes(by) ? null : <option value="">by {plain(by)}</option>}
        </Form.Select>
        <Form.Control size="sm" aria-label="By a label" placeholder="by label:release" defaultValue={by.startsWith("label:") ? by : ""} key={by} onKeyDown={(e) => e.key === "Enter" && set("by", e.currentTarget.value.trim())} />
        <Form.Select size="sm" className="kinds" aria-label="Suite" value={asked.get("suite") ?? ""} onChange={(e) => set("suite", e.target.value)}>
          <option value="">all suites</option>
          {suites.data?.map((one) => (
            <option key={one.name}>{one.name}</option>
          ))}
        </Form.Select>
        <Form.Control size="sm" type="date" aria-label="From" value={asked.get("from") ?? usage.data?.from ?? ""} onChange={(e) => set("from", e.target.value)} />
        <Form.Control size="sm" type="date" aria-label="Until" value={asked.get("until") ?? usage.data?.until ?? ""} onChange={(e) => set("until", e.target.value)} />
        <a className="btn btn-sm btn-outline-primary" href={`/api/usage.csv?${query}`} download="usage.csv">
          CSV
        </a>
      </div>
      <DetailPage query={usage} what="the usage">
        {(found) => (found.rows.length === 0 ? <Empty>No run that is over was made in these days.</Empty> : <Rows found={found} />)}
      </DetailPage>
    </>
  );
}

function Rows({ found }: { found: Usage }) {
  const most = Math.max(...found.rows.map((row) => row.tests_us + row.idle_us), 1);
  return (
    <Table size="sm" hover className="dense">
      <thead>
        <tr>
          <th>{found.by.charAt(0).toUpperCase() + found.by.slice(1)}</th>
          <th className="number">Runs</th>
          <th className="number">In tests</th>
          <th className="number">Of it retries</th>
          <th className="number" title="Of the slots that worked for a run, what no test ran in">
            Idle
          </th>
          <th className="number" title="Until the tests were known and could begin, by the clock">
            Waited
          </th>
          <th className="wide-only">Slots' time: in tests, retries, idle</th>
        </tr>
      </thead>
      <tbody>
        {found.rows.map((row) => (
          <tr key={row.key}>
            <td>
              <Key by={found.by} of={row.key} />
            </td>
            <Cells row={row} />
            <td className="wide-only usage-bar" aria-hidden="true">
              <span style={{ background: "var(--passed)", width: `${(100 * (row.tests_us - row.retried_us)) / most}%` }} />
              <span style={{ background: "var(--flaky)", width: `${(100 * row.retried_us) / most}%` }} />
              <span className="idle" style={{ width: `${(100 * row.idle_us) / most}%` }} />
            </td>
          </tr>
        ))}
        <tr>
          <td>
            <strong>All</strong>
          </td>
          <Cells row={found.total} />
          <td className="wide-only" />
        </tr>
      </tbody>
    </Table>
  );
}

function Cells({ row }: { row: UsageRow }) {
  return (
    <>
      <td className="number">{row.runs.toLocaleString("en")}</td>
      <td className="number">{span(row.tests_us)}</td>
      <td className="number">{row.retried_us > 0 ? span(row.retried_us) : "–"}</td>
      <td className="number">{span(row.idle_us)}</td>
      <td className="number">{span(row.waited_us)}</td>
    </>
  );
}

function Key({ by, of }: { by: string; of: string }) {
  if (of === "") return <>none</>;
  const to = by === "suite" ? `/suites/${of}` : by === "brief" ? `/briefs/${of}` : by === "run" ? `/runs/${of}` : by === "pool" ? `/pools/${of}` : by.startsWith("label:") ? `/runs?label=${encodeURIComponent(`${by.slice(6)}=${of}`)}` : null;
  return to ? (
    <Link to={to} className="name">
      {plain(of)}
    </Link>
  ) : (
    <span className="name">{plain(of)}</span>
  );
}

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Form, Table } from "react-bootstrap";
import { Link } from "react-router";

import { useAsked } from "../data/address";
import { call, useMayOperate, useMe } from "../data/api";
import type { components } from "../generated/api";
import { Alarm } from "../parts/Frame";
import { DetailPage } from "../parts/Pages";
import { Accounts, You } from "../parts/People";
import { When, plain } from "../parts/words";

type Keeping = components["schemas"]["Keeping"];
type Secret = components["schemas"]["SecretOf"];
type Shared = components["schemas"]["SharedAddress"];
type Audited = components["schemas"]["Audited"];

/** The service itself: what it keeps for how long, what it was given to keep secret, what is shared, and who did what when. */
export function ServicePage() {
  const me = useMe();
  return (
    <>
      <h1 className="figure">The service</h1>
      <You />
      {me.data?.role === "admin" ? <Accounts /> : null}
      <Kept />
      <Secrets />
      <Addresses />
      {me.data?.role === "admin" ? <Audit /> : null}
    </>
  );
}

function Kept() {
  const kept = useQuery({ queryKey: ["keep"], queryFn: ({ signal }) => call<Keeping>("/api/keep", { signal }) });
  return (
    <>
      <h2>What is kept for how long</h2>
      <DetailPage query={kept} what="what is kept">
        {({ rules, sweeps }) => (
          <>
            {rules.length === 0 ? (
              <p>
                Everything is kept. Say in a terminal how long something is: <code>kesmo keep add runs --for 365d</code>
              </p>
            ) : (
              <Table size="sm" className="dense">
                <thead>
                  <tr>
                    <th>Rule</th>
                    <th>Kept are</th>
                    <th>By</th>
                  </tr>
                </thead>
                <tbody>
                  {rules.map((rule) => (
                    <tr key={rule.name}>
                      <td className="name">{rule.name}</td>
                      <td>{plain(rule.said)}</td>
                      <td>{plain(rule.by)}</td>
                    </tr>
                  ))}
                </tbody>
              </Table>
            )}
            {sweeps.slice(0, 5).map((swept) => (
              <p key={swept.at} className="under-figure">
                <When at={swept.at} />: removed {plain(swept.said)}.
              </p>
            ))}
          </>
        )}
      </DetailPage>
    </>
  );
}

function Secrets() {
  const secrets = useQuery({ queryKey: ["secrets"], queryFn: ({ signal }) => call<Secret[]>("/api/secrets", { signal }) });
  return (
    <>
      <h2>Secrets</h2>
      <DetailPage query={secrets} what="the secrets">
        {(all) =>
          all.length === 0 ? (
            <p>
              There is none. Values that tests need and nobody is to read are kept from a terminal: <code>kesmo secret add gate-password</code>
            </p>
          ) : (
            <Table size="sm" className="dense">
              <thead>
                <tr>
                  <th>Secret</th>
                  <th>Given to</th>
                  <th>By</th>
                  <th>Changed</th>
                  <th>Last used</th>
                </tr>
              </thead>
              <tbody>
                {all.map((secret) => (
                  <tr key={secret.name}>
                    <td className="name">{secret.name}</td>
                    <td>{secret.git ? `git at ${plain(secret.git)}` : [...secret.suites.map((s) => `runs of ${s}`), ...secret.briefs.map((b) => `the brief ${b}`)].join(", ") || "all runs"}</td>
                    <td>{plain(secret.by)}</td>
                    <td>
                      <When at={secret.changed_at} />
                    </td>
                    <td>{secret.used_at ? <When at={secret.used_at} /> : "never"}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          )
        }
      </DetailPage>
    </>
  );
}

function Addresses() {
  const may = useMayOperate();
  const queries = useQueryClient();
  const shares = useQuery({ queryKey: ["shares"], queryFn: ({ signal }) => call<Shared[]>("/api/shares", { signal }) });
  const end = useMutation({ mutationFn: (id: number) => call(`/api/shares/${id}`, { method: "DELETE" }), onSettled: () => queries.invalidateQueries({ queryKey: ["shares"] }) });
  const said = { run: "report", badge: "badge", feed: "feed" } as const;
  return (
    <>
      <h2>Shared addresses</h2>
      <DetailPage query={shares} what="what is shared">
        {(all) =>
          all.length === 0 ? (
            <p>Nothing is shown without a sign-in. A run's page shares its report.</p>
          ) : (
            <Table size="sm" className="dense">
              <thead>
                <tr>
                  <th>Shows the</th>
                  <th>Of</th>
                  <th>Until</th>
                  <th>By</th>
                  <th>Last looked at</th>
                  <th>
                    <span className="visually-hidden">End</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {all.map((share) => (
                  <tr key={share.id}>
                    <td>{said[share.kind]}</td>
                    <td>{share.kind === "run" ? <Link to={`/runs/${share.of}`}>{share.of}</Link> : plain(share.of)}</td>
                    <td>{share.until ? <When at={share.until} /> : "it is ended"}</td>
                    <td>{plain(share.by)}</td>
                    <td>{share.used_at ? <When at={share.used_at} /> : "never"}</td>
                    <td>
                      {may ? (
                        <Button size="sm" variant="link" onClick={() => end.mutate(share.id)} disabled={end.isPending} aria-label={`End the ${said[share.kind]} of ${share.of}`}>
                          End
                        </Button>
                      ) : null}
                    </td>
                  </tr>
                ))}
              </tbody>
            </Table>
          )
        }
      </DetailPage>
      <Alarm said={end.error?.message} />
    </>
  );
}

function Audit() {
  const { asked, set } = useAsked();
  const query = new URLSearchParams({ limit: "100" });
  for (const key of ["who", "what", "about", "from", "until", "refused"]) {
    const value = asked.get(key);
    if (value) query.set(key, value);
  }
  const audit = useQuery({ queryKey: ["audit", query.toString()], queryFn: ({ signal }) => call<Audited[]>(`/api/audit?${query}`, { signal }), retry: false, placeholderData: (before) => before });
  const field = (name: string, placeholder: string) => (
    <Form.Control size="sm" aria-label={placeholder} placeholder={placeholder} defaultValue={asked.get(name) ?? ""} onKeyDown={(e) => e.key === "Enter" && set(name, e.currentTarget.value.trim())} />
  );
  return (
    <>
      <h2>Who did what when</h2>
      <div className="ways" role="group" aria-label="Which of it">
        {field("who", "by whom")}
        {field("what", "what: token add")}
        {field("about", "about")}
        <Form.Control size="sm" type="date" aria-label="From" value={asked.get("from") ?? ""} onChange={(e) => set("from", e.target.value)} />
        <Form.Check type="checkbox" id="refused" label="only what was refused" checked={asked.get("refused") === "true"} onChange={(e) => set("refused", e.target.checked ? "true" : "")} />
      </div>
      <DetailPage query={audit} what="the record">
        {(all) =>
          all.length === 0 ? (
            <p>Nothing of that kind is on record.</p>
          ) : (
            <Table size="sm" className="dense">
              <thead>
                <tr>
                  <th>At</th>
                  <th>Who</th>
                  <th>What</th>
                  <th>About</th>
                  <th className="wide-only">From</th>
                </tr>
              </thead>
              <tbody>
                {all.map((one) => (
                  <tr key={one.id}>
                    <td>
                      <When at={one.at} />
                    </td>
                    <td>{one.who ? `${plain(one.who)} (${one.role})` : "nobody known"}</td>
                    <td>
                      {one.what} {one.status >= 400 ? <span className="tone-failed">◆ refused ({one.status})</span> : null}
                    </td>
                    <td>
                      {one.note ? plain(one.note) : <span className="name">{plain(one.path)}</span>}
                    </td>
                    <td className="wide-only">{one.address}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          )
        }
      </DetailPage>
    </>
  );
}

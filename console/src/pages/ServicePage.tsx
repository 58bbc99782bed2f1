import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { Link } from "react-router";

import { useAsked } from "../data/address";
import { api, some, told, useLimited, useMayOperate, useMe } from "../data/api";
import { useMayKeep } from "../data/pools";
import type { components } from "../generated/api";
import { Alarm } from "../parts/Frame";
import { DetailPage } from "../parts/Pages";
import { Accounts, You } from "../parts/People";
import { When, plain } from "../parts/words";

type Rule = components["schemas"]["Rule"];
type SecretToKeep = Pick<components["schemas"]["NewSecret"], "value"> & Partial<components["schemas"]["NewSecret"]>;

/** The service itself: what it keeps for how long, what it was given to keep secret, what is shared, and who did what when. */
export function ServicePage() {
  const me = useMe();
  const limited = useLimited();
  return limited ? (
    <>
      <h1 className="figure">The service</h1>
      <You />
    </>
  ) : (
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

/** Something of this page that is changed by an admin. */
function useChanged<In, Out = unknown>(key: string, change: (given: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: change, onSettled: () => queries.invalidateQueries({ queryKey: [key] }) });
}

// By what a rule keeps, with what a number of it means.
const LIMITS = {
  age_us: { said: "for so many days", of: 86_400_000_000 },
  count: { said: "the latest so many runs", of: 1 },
  bytes: { said: "so many GiB of the latest", of: 1024 ** 3 },
} as const;

/** A new rule of what is kept for how long. */
function NewRule() {
  const [what, setWhat] = useState<Rule["what"]>("logs");
  const [by, setBy] = useState<keyof typeof LIMITS>("age_us");
  const [limit, setLimit] = useState("");
  const [suite, setSuite] = useState("");
  const [branch, setBranch] = useState("");
  const add = useChanged("keep", (rule: Partial<Rule>) => {
    // A rule is known by what it is about: the same again changes it.
    const plain = (text: string) => text.replace(/[^a-z0-9]+/g, "-").replace(/^-+|-+$/g, "");
    const name = [what, plain(suite), plain(branch), { age_us: "", count: "count", bytes: "size" }[by]].filter(Boolean).join("-");
    return told(api.PUT("/api/keep/{name}", { params: { path: { name } }, body: some({ rule, replace: true }) }));
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate({ what, [by]: Math.round(Number(limit) * LIMITS[by].of), ...(suite ? { suite } : {}), ...(branch ? { branch } : {}) }, { onSuccess: () => setLimit("") });
  };
  return (
    <>
      <Form onSubmit={submit} className="in-a-row wide" aria-label="A new rule">
        <Form.Select size="sm" aria-label="What is kept" value={what} onChange={(e) => setWhat(e.target.value as Rule["what"])}>
          {(["runs", "logs", "artifacts", "pictures", "deliveries", "audit"] as const).map((one) => (
            <option key={one}>{one}</option>
          ))}
        </Form.Select>
        <Form.Select size="sm" aria-label="By what" value={by} onChange={(e) => setBy(e.target.value as keyof typeof LIMITS)}>
          {Object.entries(LIMITS).map(([key, { said }]) => (
            <option key={key} value={key}>
              {said}
            </option>
          ))}
        </Form.Select>
        <Form.Control size="sm" required type="number" min={by === "count" ? 1 : 0.001} step={by === "count" ? 1 : "any"} className="short-number" id="keep-limit" aria-label={LIMITS[by].said} value={limit} onChange={(e) => setLimit(e.target.value)} />
        <Form.Control size="sm" className="name" id="keep-suite" aria-label="Of suites" placeholder="all suites" value={suite} onChange={(e) => setSuite(e.target.value)} />
        <Form.Control size="sm" className="name" id="keep-branch" aria-label="Of branches" placeholder="all branches" value={branch} onChange={(e) => setBranch(e.target.value)} />
        <Button size="sm" type="submit" variant="outline-primary" className="text-nowrap" disabled={add.isPending}>
          Add the rule
        </Button>
      </Form>
      <Alarm said={add.error?.message} />
    </>
  );
}

/** A sweep by hand: what it would free is told first. */
function SweepNow() {
  const sweep = useChanged("keep", (really: boolean) => told(api.POST("/api/sweep", { params: { query: { try: !really } } })));
  return (
    <div className="actions">
      <Button size="sm" variant="outline-primary" disabled={sweep.isPending} onClick={() => sweep.mutate(false)}>
        What would go
      </Button>
      {sweep.data && sweep.variables === false ? (
        <Button size="sm" variant="outline-danger" disabled={sweep.isPending} onClick={() => sweep.mutate(true)}>
          Remove it now
        </Button>
      ) : null}
      <span role="status">{sweep.isPending ? "Looking …" : sweep.data ? `${sweep.variables ? "Removed" : "Would go"}: ${plain(sweep.data.said)}.` : null}</span>
      <Alarm said={sweep.error?.message} />
    </div>
  );
}

/** A secret to keep: its value is sent once, and shown nowhere again. */
function NewSecret() {
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const [to, setTo] = useState<"all" | "suite" | "brief" | "git">("all");
  const [of, setOf] = useState("");
  const [replace, setReplace] = useState(false);
  const keep = useChanged("secrets", (body: SecretToKeep) => told(api.PUT("/api/secrets/{name}", { params: { path: { name } }, body: some(body) })));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const all = of.split(/[\s,]+/).filter(Boolean);
    const given = to === "suite" ? { suites: all } : to === "brief" ? { briefs: all } : to === "git" ? { git: of.trim() } : {};
    keep.mutate(
      { value, replace, ...given },
      {
        onSuccess: () => {
          setName("");
          setValue("");
          setOf("");
          setReplace(false);
        },
      },
    );
  };
  return (
    <>
      <Form onSubmit={submit} className="in-a-row wide" aria-label="A secret to keep">
        <Form.Control size="sm" required className="name" id="secret-name" aria-label="Name of the secret" placeholder="name" value={name} onChange={(e) => setName(e.target.value)} pattern="[a-z0-9][a-z0-9\-]*" title="a-z, 0-9 and '-'" />
        <Form.Control size="sm" required type="password" autoComplete="off" id="secret-value" aria-label="Its value" placeholder="value" value={value} onChange={(e) => setValue(e.target.value)} />
        <Form.Select size="sm" aria-label="Given to" value={to} onChange={(e) => setTo(e.target.value as typeof to)}>
          <option value="all">all runs</option>
          <option value="suite">runs of suites</option>
          <option value="brief">runs of briefs</option>
          <option value="git">git alone</option>
        </Form.Select>
        {to === "all" ? null : <Form.Control size="sm" required className="name" id="secret-of" aria-label="Of which" placeholder={to === "git" ? "https://git.quay.example/lamps/" : "names"} value={of} onChange={(e) => setOf(e.target.value)} />}
        <Form.Check type="checkbox" id="secret-replace" label="in place of one" className="text-nowrap" checked={replace} onChange={(e) => setReplace(e.target.checked)} />
        <Button size="sm" type="submit" variant="outline-primary" className="text-nowrap" disabled={keep.isPending}>
          Keep the secret
        </Button>
      </Form>
      <Alarm said={keep.error?.message} />
    </>
  );
}

/** Takes something of this page away. */
function RemoveIt({ what, of, name, away }: { what: string; of: string; name: string; away: () => Promise<unknown> }) {
  const remove = useChanged(of, away);
  return (
    <>
      <Button size="sm" variant="link" className="text-danger" disabled={remove.isPending} onClick={() => remove.mutate(undefined)} aria-label={`Remove the ${what} ${name}`}>
        Remove
      </Button>
      <Alarm said={remove.error?.message} />
    </>
  );
}

function Kept() {
  const admin = useMayKeep();
  const kept = useQuery({ queryKey: ["keep"], queryFn: ({ signal }) => told(api.GET("/api/keep", { signal })) });
  return (
    <>
      <h2>What is kept for how long</h2>
      {admin ? <NewRule /> : null}
      <DetailPage query={kept} what="what is kept">
        {({ rules, sweeps }) => (
          <>
            {rules.length === 0 ? (
              <p>
                Everything is kept{admin ? "" : ": an admin says how long something is"}.
              </p>
            ) : (
              <Table size="sm" className="dense">
                <thead>
                  <tr>
                    <th>Rule</th>
                    <th>Kept are</th>
                    <th>By</th>
                    {admin ? (
                      <th>
                        <span className="visually-hidden">Do</span>
                      </th>
                    ) : null}
                  </tr>
                </thead>
                <tbody>
                  {rules.map((rule) => (
                    <tr key={rule.name}>
                      <td className="name">{rule.name}</td>
                      <td>{plain(rule.said)}</td>
                      <td>{plain(rule.by)}</td>
                      {admin ? (
                        <td>
                          <RemoveIt what="rule" of="keep" name={rule.name} away={() => told(api.DELETE("/api/keep/{name}", { params: { path: { name: rule.name } } }))} />
                        </td>
                      ) : null}
                    </tr>
                  ))}
                </tbody>
              </Table>
            )}
            {admin && rules.length > 0 ? <SweepNow /> : null}
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
  const admin = useMayKeep();
  const secrets = useQuery({ queryKey: ["secrets"], queryFn: ({ signal }) => told(api.GET("/api/secrets", { signal })) });
  return (
    <>
      <h2>Secrets</h2>
      {admin ? <NewSecret /> : null}
      <DetailPage query={secrets} what="the secrets">
        {(all) =>
          all.length === 0 ? (
            <p>
              There is none. Secrets are values that tests need and nobody is to read{admin ? "" : ": an admin keeps them"}.
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
                  {admin ? (
                    <th>
                      <span className="visually-hidden">Do</span>
                    </th>
                  ) : null}
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
                    {admin ? (
                      <td>
                        <RemoveIt what="secret" of="secrets" name={secret.name} away={() => told(api.DELETE("/api/secrets/{name}", { params: { path: { name: secret.name } } }))} />
                      </td>
                    ) : null}
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
  const shares = useQuery({ queryKey: ["shares"], queryFn: ({ signal }) => told(api.GET("/api/shares", { signal })) });
  const end = useMutation({ mutationFn: (id: number) => told(api.DELETE("/api/shares/{id}", { params: { path: { id } } })), onSettled: () => queries.invalidateQueries({ queryKey: ["shares"] }) });
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
  const value = (key: string) => asked.get(key) || undefined;
  const query = { limit: 100, who: value("who"), what: value("what"), about: value("about"), from: value("from"), until: value("until"), refused: value("refused") === "true" || undefined };
  const audit = useQuery({ queryKey: ["audit", query], queryFn: ({ signal }) => told(api.GET("/api/audit", { params: { query }, signal })), retry: false, placeholderData: (before) => before });
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

// Who is signed in where, and the accounts of people.

import { type FormEvent, useState } from "react";
import { Button, Form, Table } from "react-bootstrap";

import { useMe } from "../data/api";
import { type PasswordLink, type Role, useAccounts, useAddAccount, useAddOwnToken, useChangeAccount, useChangePassword, useEndSession, useLinkAccount, useRemoveAccount, useSessions, useSignOut } from "../data/people";
import { Copy } from "./Copy";
import { Alarm } from "./Frame";
import { DetailPage } from "./Pages";
import { When, plain } from "./words";

const ROLES: Role[] = ["reader", "operator", "admin"];

/** Oneself: the browsers in which one is signed in, and one's password. */
export function You() {
  const me = useMe().data;
  const out = useSignOut();
  const [changing, setChanging] = useState(false);
  if (!me) return null;
  return (
    <section aria-label="You">
      <h2>You</h2>
      <p>
        Signed in {me.account ? "as" : "with the token"} <span className="name">{me.name}</span>, {me.role}
        {me.suites?.length ? ` of the suites ${me.suites.join(", ")} only` : ""}.
      </p>
      <div className="actions">
        <Button size="sm" variant="outline-primary" onClick={() => out.mutate()} disabled={out.isPending}>
          Sign out
        </Button>
        {me.account && !me.provided ? (
          <Button size="sm" variant="outline-primary" aria-expanded={changing} onClick={() => setChanging(!changing)}>
            {changing ? "Close" : "Change the password"}
          </Button>
        ) : null}
      </div>
      <Alarm said={out.error?.message} />
      {me.account ? <OwnToken /> : null}
      {changing ? <OwnPassword onDone={() => setChanging(false)} /> : null}
      <Sessions />
    </section>
  );
}

/** Makes a token of one's own, for the command line. */
function OwnToken() {
  const add = useAddOwnToken();
  const [place, setPlace] = useState("laptop");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate({ place });
  };
  const made = add.data;
  return (
    <>
      <Form onSubmit={submit} className="in-a-row" aria-label="A token of your own">
        <Form.Control size="sm" required className="name" id="token-place" aria-label="Where it is used" value={place} onChange={(e) => setPlace(e.target.value)} />
        <Button size="sm" type="submit" variant="outline-primary" className="text-nowrap" disabled={add.isPending}>
          Make a token of your own
        </Button>
      </Form>
      <p className="under">For the command line on your machine. It has your role, whatever that is then, and ends after 90 days.</p>
      <Alarm said={add.error?.message} />
      {made?.token ? (
        <div className="secret" role="status">
          <p>
            The token <span className="name">{made.name}</span>, shown this once: <code>kesmo login {location.origin}</code> asks for it. <Copy text={made.token} />
          </p>
          <pre className="command" tabIndex={0} aria-label="Token">
            {made.token}
          </pre>
        </div>
      ) : null}
    </>
  );
}

function OwnPassword({ onDone }: { onDone: () => void }) {
  const change = useChangePassword();
  const [old, setOld] = useState("");
  const [other, setOther] = useState("");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate({ old, new: other }, { onSuccess: onDone });
  };
  return (
    <Form onSubmit={submit} className="webhook-form" aria-label="Another password">
      <Form.Group controlId="old-password">
        <Form.Label>The password now</Form.Label>
        <Form.Control type="password" autoComplete="current-password" required value={old} onChange={(e) => setOld(e.target.value)} />
      </Form.Group>
      <Form.Group controlId="other-password">
        <Form.Label>Another, of ten letters or more</Form.Label>
        <Form.Control type="password" autoComplete="new-password" required value={other} onChange={(e) => setOther(e.target.value)} />
      </Form.Group>
      <div className="across">
        <Alarm said={change.error?.message} />
        <Button type="submit" disabled={change.isPending}>
          Change it
        </Button>{" "}
        <small>Other browsers are signed out, and tokens of your own end.</small>
      </div>
    </Form>
  );
}

function Sessions() {
  const admin = useMe().data?.role === "admin";
  const [all, setAll] = useState(false);
  const sessions = useSessions(all);
  const end = useEndSession();
  return (
    <>
      <h3>Browsers that are signed in</h3>
      {admin ? <Form.Check type="checkbox" id="all-sessions" label="those of everybody" checked={all} onChange={(e) => setAll(e.target.checked)} /> : null}
      <DetailPage query={sessions} what="the browsers">
        {(found) => (
          <Table size="sm" className="dense">
            <thead>
              <tr>
                {all ? <th>Who</th> : null}
                <th>Browser</th>
                <th>From</th>
                <th>Since</th>
                <th>Last seen</th>
                <th>
                  <span className="visually-hidden">End</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {found.map((s) => (
                <tr key={s.id}>
                  {all ? (
                    <td>
                      <span className="name">{s.who}</span>
                      {s.by_token ? " (token)" : ""}
                    </td>
                  ) : null}
                  <td className="why" title={s.about}>
                    {s.own ? "this one" : plain(s.about) || "it does not say"}
                  </td>
                  <td>{s.address}</td>
                  <td>
                    <When at={s.made_at} />
                  </td>
                  <td>
                    <When at={s.seen_at} />
                  </td>
                  <td>
                    {s.own ? null : (
                      <Button size="sm" variant="link" disabled={end.isPending} onClick={() => end.mutate(s.id)} aria-label={`End session ${s.id}`}>
                        End
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        )}
      </DetailPage>
      <Alarm said={end.error?.message} />
    </>
  );
}

function SignsInAt({ issuer, last }: { issuer: string; last?: string | null | undefined }) {
  return (
    <>
      at {plain(issuer)}, {last ? <>last <When at={last} /></> : "and may come in no more"}
    </>
  );
}

const globs = (text: string) => text.split(/[\s,]+/).filter(Boolean);
const said = (suites: string[] | undefined) => (suites?.length ? suites.join(", ") : "all suites");

/** The suites of an account, which can be changed: what is typed holds from Enter on, or when one goes elsewhere. */
function Suites({ name, of, disabled, put }: { name: string; of: string[]; disabled: boolean; put: (to: string[]) => void }) {
  const [text, setText] = useState(of.join(", "));
  const save = () => {
    if (globs(text).join(", ") !== of.join(", ")) put(globs(text));
  };
  return (
    <Form.Control
      size="sm"
      className="name"
      aria-label={`Suites of ${name}`}
      placeholder="all suites"
      value={text}
      disabled={disabled}
      onChange={(e) => setText(e.target.value)}
      onBlur={save}
      onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
    />
  );
}

/** The accounts of people, for admins. */
export function Accounts() {
  const accounts = useAccounts();
  const [add, link, change, remove] = [useAddAccount(), useLinkAccount(), useChangeAccount(), useRemoveAccount()];
  const own = useMe().data;
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("operator");
  const [suites, setSuites] = useState("");
  const [made, setMade] = useState<PasswordLink | null>(null);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate(
      { name, role, suites: role === "admin" ? [] : globs(suites) },
      {
        onSuccess: (given) => {
          setMade(given);
          setName("");
          setSuites("");
        },
      },
    );
  };
  const address = made ? `${location.origin}/password#key=${made.key}` : "";
  const roles = (of: Role, put: (role: Role) => void, label: string, disabled: boolean) => (
    <Form.Select size="sm" aria-label={label} value={of} disabled={disabled} onChange={(e) => put(e.target.value as Role)}>
      {ROLES.map((r) => (
        <option key={r}>{r}</option>
      ))}
    </Form.Select>
  );
  return (
    <section aria-label="Accounts">
      <h2>Accounts</h2>
      {made ? (
        <div className="secret" role="status">
          <p>
            Whoever opens this link chooses the password of <span className="name">{made.name}</span>. It is shown this once, good once, and until <When at={made.until} />: <Copy text={address} />
          </p>
          <pre className="command" tabIndex={0} aria-label="Link">
            {address}
          </pre>
        </div>
      ) : null}
      <Form onSubmit={submit} className="in-a-row" aria-label="A new account">
        <Form.Control size="sm" required className="name" id="account-name" aria-label="Name of a new account" placeholder="name" value={name} onChange={(e) => setName(e.target.value)} pattern="[a-z0-9][a-z0-9\-]*" title="a-z, 0-9 and '-'" />
        {roles(role, setRole, "Role of a new account", false)}
        {role === "admin" ? null : <Form.Control size="sm" className="name" id="account-suites" aria-label="Suites of a new account" placeholder="all suites" value={suites} onChange={(e) => setSuites(e.target.value)} />}
        <Button size="sm" type="submit" variant="outline-primary" className="text-nowrap" disabled={add.isPending}>
          Make an account
        </Button>
      </Form>
      <Alarm said={(add.error ?? link.error ?? change.error ?? remove.error)?.message} />
      <DetailPage query={accounts} what="the accounts">
        {(all) =>
          all.length === 0 ? (
            <p>There is none: everybody signs in with a token so far.</p>
          ) : (
            <Table size="sm" className="dense">
              <thead>
                <tr>
                  <th>Account</th>
                  <th>Role</th>
                  <th>For</th>
                  <th>Signs in</th>
                  <th className="number">Browsers</th>
                  <th className="number">Tokens</th>
                  <th>Last seen</th>
                  <th>
                    <span className="visually-hidden">Do</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {all.map((a) => {
                  const oneself = (own?.account ?? false) && own?.name === a.name;
                  return (
                    <tr key={a.name}>
                      <td className="name">{a.name}</td>
                      <td>{a.issuer ? a.role : roles(a.role, (to) => change.mutate({ name: a.name, role: to, ...(to === "admin" ? { suites: [] } : {}) }), `Role of ${a.name}`, oneself || change.isPending)}</td>
                      <td>{a.issuer || a.role === "admin" ? said(a.suites) : <Suites key={said(a.suites)} name={a.name} of={a.suites ?? []} disabled={oneself || change.isPending} put={(to) => change.mutate({ name: a.name, role: a.role, suites: to })} />}</td>
                      <td>{a.issuer ? <SignsInAt issuer={a.issuer} last={a.confirmed_at} /> : a.chosen ? "by a password" : a.link_until ? <>by a password that is to be chosen until <When at={a.link_until} /></> : "not yet"}</td>
                      <td className="number">{a.sessions}</td>
                      <td className="number">{a.tokens}</td>
                      <td>{a.seen_at ? <When at={a.seen_at} /> : "never"}</td>
                      <td className="text-nowrap">
                        {a.issuer ? null : <Button size="sm" variant="link" disabled={link.isPending} onClick={() => link.mutate(a.name, { onSuccess: setMade })} aria-label={`A link for ${a.name}`}>
                          Link for a password
                        </Button>}
                        {oneself ? null : (
                          <Button size="sm" variant="link" className="text-danger" disabled={remove.isPending} onClick={() => remove.mutate(a.name)} aria-label={`Remove ${a.name}`}>
                            Remove
                          </Button>
                        )}
                      </td>
                    </tr>
                  );
                })}
              </tbody>
            </Table>
          )
        }
      </DetailPage>
    </section>
  );
}

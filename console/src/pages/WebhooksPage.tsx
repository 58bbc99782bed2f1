import { type FormEvent, useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { Link } from "react-router";

import { type WebhookOf, useMayOperate } from "../data/api";
import { useAddWebhook, useBriefs, useWebhooks } from "../data/starts";
import { lines } from "../parts/ChoiceForm";
import { Alarm } from "../parts/Frame";
import { ListPage } from "../parts/Pages";
import { When } from "../parts/words";

const DID: Record<string, [string, string]> = { started: ["≈", "tone-running"], ignored: ["▽", "tone-skipped"], refused: ["⊘", "tone-void"] };

export function Did({ did }: { did: string }) {
  const [glyph, tone] = DID[did] ?? ["", ""];
  return (
    <span className={tone}>
      {glyph} {did}
    </span>
  );
}

export function WebhooksPage() {
  const webhooks = useWebhooks();
  const [making, setMaking] = useState(false);
  const may = useMayOperate();
  return (
    <ListPage
      query={webhooks}
      what="the webhooks"
      one="webhook"
      none={
        <>
          <h1 className="figure">No webhook yet</h1>
          A webhook is an address that starts a brief when another system posts to it. In a terminal:{" "}
          <code>kesmo webhook add push --brief BRIEF --take commit=/commit --when /branch=main</code>
        </>
      }
      before={may ? (
        <section>
          <p>
            <Button size="sm" variant="outline-primary" aria-expanded={making} onClick={() => setMaking(!making)}>
              {making ? "Close" : "Make a webhook"}
            </Button>
          </p>
          {making ? <NewWebhook /> : null}
        </section>
      ) : null}
    >
      {(all) => (
        <Table size="sm" hover className="dense">
          <thead>
            <tr>
              <th>Webhook</th>
              <th>Starts</th>
              <th>Last delivery</th>
              <th className="wide-only">Address</th>
              <th className="wide-only">When</th>
            </tr>
          </thead>
          <tbody>
            {all.map((c) => (
              <tr key={c.name}>
                <td>
                  <Link to={`/webhooks/${c.name}`} className="name">
                    {c.name}
                  </Link>
                  {c.paused ? <span className="tone-parked"> ▭ paused</span> : null}
                </td>
                <td>
                  <Link to={`/briefs/${c.brief}`} className="name">
                    {c.brief}
                  </Link>
                </td>
                <td>
                  {c.deliveries[0] ? (
                    <>
                      <Did did={c.deliveries[0].did} /> <When at={c.deliveries[0].at} />
                    </>
                  ) : (
                    "nothing came yet"
                  )}
                </td>
                <td className="wide-only name">{location.origin + c.path}</td>
                <td className="wide-only name">{c.whens.join(", ")}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </ListPage>
  );
}

function NewWebhook() {
  const briefs = useBriefs();
  const add = useAddWebhook();
  const [name, setName] = useState("");
  const [brief, setBrief] = useState("");
  const [takes, setTakes] = useState("");
  const [whens, setWhens] = useState("");
  const [made, setMade] = useState<WebhookOf | null>(null);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate({ name, brief: brief || briefs.data?.[0]?.name || "", takes: lines(takes), whens: lines(whens) }, { onSuccess: setMade });
  };
  if (made) {
    return (
      <div className="secret" role="status">
        <p>
          The webhook <Link to={`/webhooks/${made.name}`}>{made.name}</Link> is made. Post JSON to <code>{location.origin + made.path}</code>, signed as Standard Webhooks says, with this secret. It is shown this once:
        </p>
        <pre className="command" tabIndex={0} aria-label="Secret">
          {made.secret}
        </pre>
      </div>
    );
  }
  if (briefs.data?.length === 0) {
    return (
      <p>
        It starts a brief, and there is none: <Link to="/briefs/new">make one first</Link>.
      </p>
    );
  }
  return (
    <Form onSubmit={submit} className="webhook-form start" aria-label="A new webhook">
      <Form.Group controlId="webhook-name">
        <Form.Label>Name</Form.Label>
        <Form.Control required className="name" value={name} onChange={(e) => setName(e.target.value)} placeholder="push" pattern="[a-z0-9][a-z0-9\-]*" title="a-z, 0-9 and '-'" />
      </Form.Group>
      <Form.Group controlId="webhook-brief">
        <Form.Label>Starts the brief</Form.Label>
        <Form.Select value={brief} onChange={(e) => setBrief(e.target.value)}>
          {(briefs.data ?? []).map((b) => (
            <option key={b.name}>{b.name}</option>
          ))}
        </Form.Select>
      </Form.Group>
      <Form.Group controlId="webhook-takes">
        <Form.Label>Takes of the body</Form.Label>
        <Form.Control as="textarea" rows={3} className="name" value={takes} onChange={(e) => setTakes(e.target.value)} placeholder={"branch=/branch\ncommit=/commit\nlabel.author=/author/name"} />
      </Form.Group>
      <Form.Group controlId="webhook-whens">
        <Form.Label>Only when</Form.Label>
        <Form.Control as="textarea" rows={3} className="name" value={whens} onChange={(e) => setWhens(e.target.value)} placeholder="/branch=main" />
      </Form.Group>
      <div className="across">
        <Alarm said={add.error?.message} />
        <Button type="submit" disabled={add.isPending}>
          Make it
        </Button>
      </div>
    </Form>
  );
}

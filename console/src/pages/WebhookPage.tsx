import { type FormEvent, useState } from "react";
import { Button, Form, Table } from "react-bootstrap";
import { Link, useNavigate, useParams } from "react-router";

import { type WebhookOf, useMayOperate } from "../data/api";
import { useWebhook, useDelivery, usePauseWebhook, useRemoveWebhook, useRedeliver, useTry } from "../data/starts";
import { Alarm } from "../parts/Frame";
import { DetailPage } from "../parts/Pages";
import { Facts, When, plain, size } from "../parts/words";
import { Did } from "./WebhooksPage";

export function WebhookPage() {
  const { webhook: name = "" } = useParams();
  const webhook = useWebhook(name);
  return (
    <DetailPage query={webhook} what={`the webhook ${name}`}>
      {(one) => <OneWebhook name={name} c={one} />}
    </DetailPage>
  );
}

function OneWebhook({ name, c }: { name: string; c: WebhookOf }) {
  const [pause, remove, repeat, tried] = [usePauseWebhook(), useRemoveWebhook(), useRedeliver(name), useTry(name)];
  const [open, setOpen] = useState<number | null>(null);
  const body = useDelivery(name, open);
  const [text, setText] = useState("");
  const navigate = useNavigate();
  const may = useMayOperate();
  const error = pause.error ?? remove.error ?? repeat.error;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    tried.mutate(text);
  };
  return (
    <div className="two-columns">
      <section>
        <h1 className="figure name">{c.name}</h1>
        <p className="under-figure">
          Starts <Link to={`/briefs/${c.brief}`}>{c.brief}</Link> when another system posts to <code>{location.origin + c.path}</code>. {c.paused ? <span className="tone-parked">▭ It is paused: what comes is refused.</span> : null}
        </p>
        <Alarm said={error?.message} />
        <h2>Deliveries</h2>
        {c.deliveries.length === 0 ? (
          <p className="under-figure">Nothing came yet.</p>
        ) : (
          <Table size="sm" hover className="dense">
            <thead>
              <tr>
                <th className="number">Number</th>
                <th>Received</th>
                <th>Result</th>
                <th>Run</th>
                <th className="wide-only">Why</th>
                <th>
                  <span className="visually-hidden">Do</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {c.deliveries.map((d) => (
                <tr key={d.id}>
                  <td className="number">{d.id}</td>
                  <td>
                    <When at={d.at} />
                  </td>
                  <td>
                    <Did did={d.did} />
                  </td>
                  <td>
                    {d.run ? (
                      <Link to={`/runs/${d.run}`} className="name">
                        {d.run}
                      </Link>
                    ) : null}
                  </td>
                  <td className="wide-only why">
                    {plain(d.why)}
                    {d.redelivery_of ? ` (redelivery of ${d.redelivery_of})` : ""}
                  </td>
                  <td className="number">
                    {d.genuine ? (
                      <>
                        <Button size="sm" variant="link" aria-pressed={open === d.id} onClick={() => setOpen(open === d.id ? null : d.id)} aria-label={`Body of ${d.id}`}>
                          {size(d.bytes)}
                        </Button>
                        {may ? (
                          <Button size="sm" variant="link" disabled={repeat.isPending} onClick={() => repeat.mutate(d.id)} aria-label={`Redeliver ${d.id}`}>
                            Redeliver
                          </Button>
                        ) : null}
                      </>
                    ) : null}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        )}
        {open !== null && body.data ? (
          <pre className="output" tabIndex={0} aria-label={`Body of ${open}`}>
            {pretty(body.data.body ?? "")}
          </pre>
        ) : null}
        <h2>Try a body</h2>
        <Form onSubmit={submit} className="start" aria-label="Try a body">
          <Form.Control as="textarea" rows={6} className="name mb-2" aria-label="Body" value={text} onChange={(e) => setText(e.target.value)} placeholder='{"branch": "main", "commit": "…", "author": "Ada"}' />
          <Button size="sm" type="submit" variant="outline-primary" disabled={tried.isPending || text.trim() === ""}>
            What would it do?
          </Button>
        </Form>
        <div role="status">
          {tried.error ? <p className="tone-failed">◆ {plain(tried.error.message)}</p> : null}
          {tried.data ? (
            <>
              <p>
                <Did did={tried.data.did} /> {plain(tried.data.why)}
              </p>
              {tried.data.toml ? <pre className="output">{tried.data.toml}</pre> : null}
            </>
          ) : null}
        </div>
      </section>
      <aside>
        {may ? (
          <div className="actions">
            <Button size="sm" variant="outline-primary" disabled={pause.isPending} onClick={() => pause.mutate({ name: c.name, paused: !c.paused })}>
              {c.paused ? "Go on" : "Pause"}
            </Button>
            <Button size="sm" variant="outline-danger" disabled={remove.isPending} onClick={() => remove.mutate(c.name, { onSuccess: () => void navigate("/webhooks") })}>
              Remove
            </Button>
          </div>
        ) : null}
        <Facts
          rows={[
            ["Brief", <Link key="b" to={`/briefs/${c.brief}`}>{c.brief}</Link>],
            ["When", c.whens.map((w) => <div key={w} className="name">{w}</div>)],
            ["Takes", c.takes.map((t) => <div key={t} className="name">{t}</div>)],
            ["At most", `${c.per_minute} a minute`],
            ["Made", <span key="m"><When at={c.made_at} /> by {c.made_by}</span>],
          ]}
        />
      </aside>
    </div>
  );
}

/** JSON with lines, where it is JSON. */
function pretty(text: string): string {
  try {
    return plain(JSON.stringify(JSON.parse(text), null, 2));
  } catch {
    return plain(text);
  }
}

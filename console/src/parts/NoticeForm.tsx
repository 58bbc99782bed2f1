// A notice, made or changed in a form: when something is told, of which runs, and where it goes.

import { type FormEvent, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { Link } from "react-router";

import { type NewNotice, type Notice, type NoticeOf, usePutNotice } from "../data/notices";
import { lines, pairs } from "./ChoiceForm";
import { Alarm } from "./Frame";

/** What may be told; those with a text take a value. */
const WHENS: [string, string][] = [
  ["failed", ""],
  ["newly-failing", ""],
  ["mended", ""],
  ["passed", ""],
  ["void", ""],
  ["stopped", ""],
  ["flaky-over", "5%"],
  ["slower-than", "2x"],
  ["schedule-missed", ""],
  ["no-worker", "5m"],
  ["forecast-over", "30m"],
];

const KINDS = { mail: "by mail", http: "to an HTTP address, signed", chat: "to a chat", "commit-status": "to a git host, as a commit's status" };
type Kind = keyof typeof KINDS;

/** What a described request is to begin with. */
const ASKED: Record<"chat" | "commit-status", string> = {
  chat: JSON.stringify({ method: "post", address: "https://chat.quay.example/rooms/crew", headers: { Authorization: "Bearer {secret}" }, body: { text: "{title}: {text} {link}" } }, null, 2),
  "commit-status": JSON.stringify({ method: "post", address: "https://git.quay.example/statuses/{commit}", headers: { Authorization: "Bearer {secret}" }, body: { state: "{verdict}", about: "{text}", address: "{link}" } }, null, 2),
};

const asked = (notice: Notice | undefined, kind: "chat" | "commit-status") => {
  const to = notice?.to as Record<string, unknown> | undefined;
  return to && kind in to ? JSON.stringify(to[kind], null, 2) : ASKED[kind];
};

export function NoticeForm({ of, onDone }: { of?: NoticeOf; onDone?: () => void }) {
  const was = of?.notice ?? undefined;
  const to = was?.to as Partial<Record<Kind, unknown>> | undefined;
  const word = (when: string) => when.split(" ")[0];
  const [name, setName] = useState(of?.name ?? "");
  const [whens, setWhens] = useState<string[]>(() => (was ? was.when.map(word) : ["newly-failing", "mended"]));
  const [values, setValues] = useState<Record<string, string>>(() => Object.fromEntries(WHENS.map(([when, value]) => [when, was?.when.find((w) => word(w) === when)?.split(" ")[1] ?? value])));
  const [texts, setTexts] = useState({
    suites: was?.suites?.join("\n") ?? "",
    briefs: was?.briefs?.join("\n") ?? "",
    branches: was?.branches?.join("\n") ?? "",
    labels: Object.entries(was?.labels ?? {}).map(([k, v]) => `${k}=${v}`).join("\n"),
    quiet: was?.quiet?.join("\n") ?? "",
    digest: was?.digest ?? "",
    zone: was?.zone ?? "",
    mail: Array.isArray(to?.mail) ? to.mail.join("\n") : "",
    http: typeof to?.http === "string" ? to.http : "",
    chat: asked(was, "chat"),
    "commit-status": asked(was, "commit-status"),
    secret: "",
  });
  const [kind, setKind] = useState<Kind>(() => (Object.keys(KINDS) as Kind[]).find((k) => to && k in to) ?? "mail");
  const [every, setEvery] = useState(was?.every_time ?? false);
  const [wrong, setWrong] = useState("");
  const [made, setMade] = useState<NoticeOf | null>(null);
  const put = usePutNotice(name);
  const type = (field: keyof typeof texts) => ({ value: texts[field], onChange: (e: { target: { value: string } }) => setTexts({ ...texts, [field]: e.target.value }) });
  const turn = (when: string) => setWhens(whens.includes(when) ? whens.filter((w) => w !== when) : [...whens, when]);

  const read = (): NewNotice | string => {
    const labels = pairs(texts.labels);
    if (typeof labels === "string") return `Labels: ${labels}`;
    if (whens.length === 0) return "Choose what is told";
    let target: unknown = texts.http.trim();
    if (kind === "mail") target = lines(texts.mail);
    if (kind === "chat" || kind === "commit-status") {
      try {
        target = JSON.parse(texts[kind]);
      } catch (e) {
        return `The request: ${(e as Error).message}`;
      }
    }
    const when = WHENS.filter(([w]) => whens.includes(w)).map(([w, value]) => (value ? `${w} ${values[w].trim()}` : w));
    const notice = { when, suites: lines(texts.suites), briefs: lines(texts.briefs), branches: lines(texts.branches), labels, quiet: lines(texts.quiet), digest: texts.digest.trim() || null, zone: texts.zone.trim() || null, every_time: every, to: { [kind]: target } as Notice["to"] };
    return { notice, secret: texts.secret || null, replace: of !== undefined };
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const body = read();
    setWrong(typeof body === "string" ? body : "");
    if (typeof body === "string") return;
    put.mutate(body, {
      onSuccess: (notice) => {
        if (notice.secret) setMade(notice);
        else onDone?.();
      },
    });
  };
  if (made) {
    return (
      <div className="secret" role="status">
        <p>
          The notice <Link to={`/notices/${made.name}`}>{made.name}</Link> is made. What it sends is signed as Standard Webhooks says, with this secret. It is shown this once:
        </p>
        <pre className="command" tabIndex={0} aria-label="Secret">
          {made.secret}
        </pre>
      </div>
    );
  }
  const lists: ["suites" | "briefs" | "branches" | "labels", string, string][] = [
    ["suites", "Of these suites", "boarding-*"],
    ["briefs", "Of these briefs", "nightly"],
    ["branches", "Of these branches", "main\nrelease/*"],
    ["labels", "Of runs with these labels", "release=*"],
  ];
  return (
    <Form onSubmit={submit} className="webhook-form start" aria-label={of ? "Change the notice" : "A new notice"}>
      {of ? null : (
        <Form.Group controlId="notice-name" className="across">
          <Form.Label>Name</Form.Label>
          <Form.Control required className="name" value={name} onChange={(e) => setName(e.target.value)} placeholder="crew" pattern="[a-z0-9][a-z0-9\-]*" title="a-z, 0-9 and '-'" />
        </Form.Group>
      )}
      <fieldset className="across">
        <legend>Told is</legend>
        {WHENS.map(([when, value]) => (
          <span key={when} className="told-when">
            <Form.Check inline type="checkbox" id={`when-${when}`} label={when} checked={whens.includes(when)} onChange={() => turn(when)} />
            {value && whens.includes(when) ? <Form.Control size="sm" className="name" aria-label={`${when}: how much`} value={values[when]} onChange={(e) => setValues({ ...values, [when]: e.target.value })} /> : null}
          </span>
        ))}
      </fieldset>
      {lists.map(([field, label, hint]) => (
        <Form.Group key={field} controlId={`notice-${field}`}>
          <Form.Label>{label}</Form.Label>
          <Form.Control as="textarea" rows={2} className="name" {...type(field)} placeholder={hint} />
        </Form.Group>
      ))}
      <Form.Group controlId="notice-kind">
        <Form.Label>It goes</Form.Label>
        <Form.Select value={kind} onChange={(e) => setKind(e.target.value as Kind)}>
          {Object.entries(KINDS).map(([key, said]) => (
            <option key={key} value={key}>
              {said}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      {kind === "mail" ? (
        <Form.Group controlId="notice-mail">
          <Form.Label>Addresses, one a line</Form.Label>
          <Form.Control as="textarea" rows={2} required className="name" {...type("mail")} placeholder="crew@quay.example" />
        </Form.Group>
      ) : kind === "http" ? (
        <Form.Group controlId="notice-http">
          <Form.Label>Address</Form.Label>
          <Form.Control type="url" required className="name" {...type("http")} placeholder="https://crew.quay.example/kesmo" />
        </Form.Group>
      ) : (
        <>
          <Form.Group controlId="notice-asked" className="across">
            <Form.Label>The request</Form.Label>
            <Form.Control as="textarea" rows={9} required className="name" {...type(kind)} />
            <Form.Text>
              JSON. {"{title}, {text}, {link}, {suite}, {run}, {verdict}, {branch} and {commit}"} stand for what is told, {"{secret}"} for the secret below.
            </Form.Text>
          </Form.Group>
          <Form.Group controlId="notice-secret">
            <Form.Label>Secret</Form.Label>
            <Form.Control type="password" autoComplete="new-password" {...type("secret")} placeholder={of ? "as it is" : "none"} />
          </Form.Group>
        </>
      )}
      <Form.Group controlId="notice-quiet">
        <Form.Label>Quiet hours</Form.Label>
        <Form.Control as="textarea" rows={2} className="name" {...type("quiet")} placeholder={"22:00-07:00\nsat,sun"} />
      </Form.Group>
      <Form.Group controlId="notice-digest">
        <Form.Label>As one message, 1h after the first or at 08:00</Form.Label>
        <Form.Control className="name" {...type("digest")} placeholder="at once" />
      </Form.Group>
      <Form.Group controlId="notice-zone">
        <Form.Label>Time zone of those</Form.Label>
        <Form.Control className="name" {...type("zone")} placeholder="UTC" />
      </Form.Group>
      <div className="across">
        <Form.Check type="checkbox" id="notice-every" label="Every time: also what fails for a reason that was told" checked={every} onChange={(e) => setEvery(e.target.checked)} />
        <Alarm said={wrong || put.error?.message} />
        <Button type="submit" disabled={put.isPending}>
          {of ? "Change it" : "Make it"}
        </Button>
      </div>
    </Form>
  );
}

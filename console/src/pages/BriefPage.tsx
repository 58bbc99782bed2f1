import { type FormEvent, useState } from "react";
import { Button, Col, Form, Row } from "react-bootstrap";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";

import { type Brief, type BriefOf, useMayOperate, useStart, useSuite, useSuites } from "../data/api";
import { useBrief, useBriefs, usePutBrief, useRemoveBrief } from "../data/starts";
import { ChoiceFields, optionsOf, useChoice } from "../parts/ChoiceForm";
import { Alarm, Loading, Trouble } from "../parts/Frame";
import { State, stateOf } from "../parts/states";
import { WouldRun } from "../parts/WouldRun";
import { Facts, When, plain } from "../parts/words";

/** A brief that is there, a copy of one, or a new one. */
export function BriefPage() {
  const { brief: name = "" } = useParams();
  const [asked] = useSearchParams();
  const copied = asked.get("copy") ?? "";
  const found = useBrief(name || copied);
  const suites = useSuites();
  if (found.error) return <Trouble error={found.error} />;
  if (!suites.data || ((name || copied) && !found.data)) return <Loading what="the brief" />;
  const of = found.data;
  const suite = asked.get("suite") ?? suites.data[0]?.name ?? "";
  return <Editor key={`${name} ${copied} ${of?.changed_at ?? ""}`} name={name} of={of} first={of?.brief.suite ?? suite} suites={suites.data.map((s) => s.name)} />;
}

function Editor({ name, of, first, suites }: { name: string; of: BriefOf | undefined; first: string; suites: string[] }) {
  const [choice, set] = useChoice(of?.brief);
  const [suiteName, setSuite] = useState(first);
  const [called, setCalled] = useState(name);
  const [then, setThen] = useState(of?.brief.then ?? "");
  const [thenIf, setThenIf] = useState<"passed" | "failed" | "any">(of?.brief.then_if ?? "passed");
  const [replace, setReplace] = useState(of?.brief.replace_older ?? false);
  const [wrong, setWrong] = useState("");
  const suite = useSuite(suiteName);
  const briefs = useBriefs();
  const [put, remove, start] = [usePutBrief(), useRemoveBrief(), useStart()];
  const navigate = useNavigate();
  const may = useMayOperate();
  const options = optionsOf(choice);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (typeof options === "string") return setWrong(options);
    setWrong("");
    const brief = {
      suite: suiteName,
      branch: choice.branch.trim() || null,
      pool: choice.pool.trim() || null,
      // A branch that is typed makes the commit void that was saved before.
      commit: choice.branch.trim() === (of?.brief.branch ?? "") ? (of?.brief.commit ?? null) : null,
      then: then || null,
      then_if: thenIf,
      replace_older: replace,
      options,
    } as Partial<Brief>;
    put.mutate({ name: called, brief, replace: name !== "" }, { onSuccess: (saved) => void navigate(`/briefs/${saved.name}`) });
  };
  const error = put.error ?? remove.error ?? start.error;
  return (
    <div className="start-columns">
      <Form onSubmit={submit} className="start">
        <h1 className={name ? "figure name" : "figure"}>{name || (of ? `A copy of ${of.name}` : "A new brief")}</h1>
        <p className="under-figure">The saved settings of a run: schedules, webhooks and polled branches start it, and you do.</p>
        <Row>
          {name ? null : (
            <Form.Group as={Col} md={6} className="mb-3" controlId="called">
              <Form.Label>Name</Form.Label>
              <Form.Control required className="name" value={called} onChange={(e) => setCalled(e.target.value)} placeholder="nightly" pattern="[a-z0-9][a-z0-9\-]*" title="a-z, 0-9 and '-'" />
            </Form.Group>
          )}
          <Form.Group as={Col} md={6} className="mb-3" controlId="suite">
            <Form.Label>Suite</Form.Label>
            <Form.Select value={suiteName} onChange={(e) => { set({ variants: [] }); setSuite(e.target.value); }}>
              {[...new Set([...suites, suiteName])].map((one) => (
                <option key={one}>{one}</option>
              ))}
            </Form.Select>
          </Form.Group>
        </Row>
        <ChoiceFields choice={choice} set={set} suite={suite.data} />
        <Row>
          <Form.Group as={Col} md={6} className="mb-3" controlId="then">
            <Form.Label>Then start</Form.Label>
            <Form.Select value={then} onChange={(e) => setThen(e.target.value)}>
              <option value="">nothing</option>
              {(briefs.data ?? []).filter((b) => b.name !== name).map((b) => (
                <option key={b.name}>{b.name}</option>
              ))}
            </Form.Select>
          </Form.Group>
          {then ? (
            <Form.Group as={Col} md={6} className="mb-3" controlId="then-if">
              <Form.Label>After</Form.Label>
              <Form.Select value={thenIf} onChange={(e) => setThenIf(e.target.value as typeof thenIf)}>
                <option value="passed">a run that passed</option>
                <option value="failed">a run that failed</option>
                <option value="any">every run that was not stopped</option>
              </Form.Select>
            </Form.Group>
          ) : null}
        </Row>
        <Form.Check className="mb-3" type="checkbox" id="replace-older" label="A run of a newer commit stops one of the same branch that is not over" checked={replace} onChange={(e) => setReplace(e.target.checked)} />
        <Alarm said={wrong || error?.message} />
        {may ? (
          <div className="actions">
            <Button type="submit" disabled={put.isPending}>
              Save
            </Button>
            {name ? (
              <>
                <Button variant="outline-primary" disabled={start.isPending} onClick={() => start.mutate({ brief: name, options: {} }, { onSuccess: (run) => void navigate(`/runs/${run.name}`) })}>
                  Start as saved
                </Button>
                <Link className="btn btn-outline-primary" to={`/briefs/new?copy=${name}`}>
                  Copy
                </Link>
                <Button variant="outline-danger" disabled={remove.isPending} onClick={() => remove.mutate(name, { onSuccess: () => void navigate("/briefs") })}>
                  Remove
                </Button>
              </>
            ) : null}
          </div>
        ) : null}
      </Form>
      <aside>
        {name && of ? (
          <>
            {of.warnings.map((warning) => (
              <p key={warning} className="tone-flaky">
                ◐ {plain(warning)}
              </p>
            ))}
            <Facts
              rows={[
                ["Last run", of.last_run ? <Link key="last" to={`/runs/${of.last_run.name}`} className="plain"><State of={stateOf(of.last_run)} /> {of.last_run.name}</Link> : "never run"],
                ["Chain", of.chain.join(" → ")],
                ["Started by", of.used_by.join(", ")],
                ["Saved", <span key="saved"><When at={of.changed_at} /> by {of.made_by}</span>],
              ]}
            />
            <details>
              <summary>As a file</summary>
              <pre className="output">{of.toml}</pre>
            </details>
          </>
        ) : null}
        <WouldRun suite={suiteName} options={options} />
      </aside>
    </div>
  );
}

import { type FormEvent, useDeferredValue, useMemo, useState } from "react";
import { Button, Col, Form, Row } from "react-bootstrap";
import { useNavigate, useSearchParams } from "react-router";

import { useStart, useSuite, useSuites, type NewRun } from "../data/api";
import { ForecastPlot } from "../parts/ForecastPlot";
import { Empty, Loading, Trouble } from "../parts/Frame";
import { SameChoice } from "../parts/SameChoice";

/** `key=value` lines as an object; the first line that is none is told. */
function pairs(text: string): Record<string, string> | string {
  const found: Record<string, string> = {};
  for (const line of text.split("\n").map((l) => l.trim()).filter(Boolean)) {
    const cut = line.indexOf("=");
    if (cut < 1) return `"${line}" is not key=value`;
    found[line.slice(0, cut).trim()] = line.slice(cut + 1);
  }
  return found;
}

const lines = (text: string) => text.split("\n").map((l) => l.trim()).filter(Boolean);

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

export function StartPage() {
  const [asked, setAsked] = useSearchParams();
  const suites = useSuites();
  const chosen = asked.get("suite") ?? suites.data?.[0]?.name ?? "";
  const suite = useSuite(chosen);
  const start = useStart();
  const navigate = useNavigate();
  const [pick, setPick] = useState("");
  const [drop, setDrop] = useState("");
  const [retries, setRetries] = useState("");
  const [shards, setShards] = useState("");
  const [labels, setLabels] = useState("");
  const [settings, setSettings] = useState("");
  const [env, setEnv] = useState("");
  const [seed, setSeed] = useState("");
  const [variants, setVariants] = useState<string[]>([]);
  const [repeat, setRepeat] = useState("");
  const [order, setOrder] = useState("longest");
  const [priority, setPriority] = useState("normal");
  const [runParked, setRunParked] = useState(false);
  const [flakyFails, setFlakyFails] = useState(false);
  const [wrong, setWrong] = useState("");
  // The forecast follows what is chosen, once the typing rests.
  const choice = useDeferredValue(useMemo(() => ({ pick: lines(pick), drop: lines(drop), variants }), [pick, drop, variants]));

  if (suites.error) return <Trouble error={suites.error} />;
  if (!suites.data) return <Loading what="the suites" />;
  if (suites.data.length === 0) {
    return (
      <Empty>
        There is no suite to start. Add one in a terminal: <code>kesmo suite add FOLDER</code>
      </Empty>
    );
  }
  const number = (text: string) => (text.trim() === "" ? null : Number(text));
  /** What is chosen, as the service takes it; or what is wrong with it. */
  const made = (): NewRun | string => {
    const [labelled, set] = [pairs(labels), pairs(settings)];
    if (typeof labelled === "string") return `Labels: ${labelled}`;
    if (typeof set === "string") return `Settings: ${set}`;
    return {
      suite: chosen,
      options: {
        pick: lines(pick),
        drop: lines(drop),
        variants,
        retries: number(retries),
        shards: number(shards),
        seed: number(seed),
        labels: labelled,
        set,
        env: env === "" ? null : env,
        repeat: number(repeat),
        shuffle: order === "shuffled",
        first_failed: order === "failed",
        priority: priority as "low" | "normal" | "high",
        run_parked: runParked,
        flaky_fails: flakyFails,
      },
    };
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const run = made();
    if (typeof run === "string") return setWrong(run);
    setWrong("");
    start.mutate(run, { onSuccess: (started) => void navigate(`/runs/${started.name}`) });
  };
  const turn = (variant: string) =>
    setVariants((before) => (before.includes(variant) ? before.filter((v) => v !== variant) : [...before, variant]));
  const s = suite.data;
  return (
    <div className="start-columns">
    <Form onSubmit={submit} className="start">
      <h1 className="figure">Start a run</h1>
      <Form.Group className="mb-3" controlId="suite">
        <Form.Label>Suite</Form.Label>
        <Form.Select value={chosen} onChange={(e) => { setVariants([]); setAsked({ suite: e.target.value }); }}>
          {suites.data.map((one) => (
            <option key={one.name}>{one.name}</option>
          ))}
        </Form.Select>
        {s ? <Form.Text>{s.about}</Form.Text> : null}
      </Form.Group>
      <Row>
        <Form.Group as={Col} md={6} className="mb-3" controlId="pick">
          <Form.Label>Pick</Form.Label>
          <Form.Control as="textarea" rows={2} className="name" value={pick} onChange={(e) => setPick(e.target.value)} placeholder={"gate/**\ntag:smoke"} />
          <Form.Text>One a line: a glob on the name, tag:WORD or like:REGEX. Empty: all tests.</Form.Text>
        </Form.Group>
        <Form.Group as={Col} md={6} className="mb-3" controlId="drop">
          <Form.Label>Drop</Form.Label>
          <Form.Control as="textarea" rows={2} className="name" value={drop} onChange={(e) => setDrop(e.target.value)} placeholder="tag:slow" />
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
                return <Form.Check key={variant} inline type="checkbox" id={variant} label={value} checked={variants.includes(variant)} onChange={() => turn(variant)} />;
              })}
            </div>
          ))}
          <Form.Text>None chosen: all.</Form.Text>
        </fieldset>
      ) : null}
      <Row>
        <NumberField id="retries" label="Retries" min={0} max={100} value={retries} onChange={setRetries} placeholder={s ? String(s.retries) : ""} />
        <NumberField id="shards" label="Shards" min={1} value={shards} onChange={setShards} placeholder="all slots" />
        <NumberField id="seed" label="Seed" min={0} value={seed} onChange={setSeed} placeholder="by chance" />
      </Row>
      <Row>
        <NumberField id="repeat" label="Repeat" min={1} value={repeat} onChange={setRepeat} placeholder="once" />
        <Form.Group as={Col} xs={4} className="mb-3" controlId="order">
          <Form.Label>Order</Form.Label>
          <Form.Select value={order} onChange={(e) => setOrder(e.target.value)}>
            <option value="longest">longest first</option>
            <option value="failed">recently failed first</option>
            <option value="shuffled">shuffled by the seed</option>
          </Form.Select>
        </Form.Group>
        <Form.Group as={Col} xs={4} className="mb-3" controlId="priority">
          <Form.Label>Priority</Form.Label>
          <Form.Select value={priority} onChange={(e) => setPriority(e.target.value)}>
            {["low", "normal", "high"].map((word) => (
              <option key={word}>{word}</option>
            ))}
          </Form.Select>
        </Form.Group>
      </Row>
      <div className="mb-3">
        <Form.Check inline type="checkbox" id="run-parked" label={`Run parked tests, without counting${s && s.parks.length > 0 ? ` (${s.parks.filter((p) => !p.over).length} parked)` : ""}`} checked={runParked} onChange={(e) => setRunParked(e.target.checked)} />
        <Form.Check inline type="checkbox" id="flaky-fails" label="A flaky test fails the run" checked={flakyFails} onChange={(e) => setFlakyFails(e.target.checked)} />
      </div>
      <Row>
        <Form.Group as={Col} md={6} className="mb-3" controlId="labels">
          <Form.Label>Labels</Form.Label>
          <Form.Control as="textarea" rows={2} className="name" value={labels} onChange={(e) => setLabels(e.target.value)} placeholder="release=1187" />
        </Form.Group>
        {s && Object.keys(s.settings).length > 0 ? (
          <Form.Group as={Col} md={6} className="mb-3" controlId="settings">
            <Form.Label>Settings</Form.Label>
            <Form.Control as="textarea" rows={2} className="name" value={settings} onChange={(e) => setSettings(e.target.value)} placeholder={Object.entries(s.settings).map(([k, v]) => `${k}=${v}`).join("\n")} />
          </Form.Group>
        ) : null}
      </Row>
      {s && s.environments.length > 0 ? (
        <Form.Group className="mb-3" controlId="env">
          <Form.Label>Environment</Form.Label>
          <Form.Select value={env} onChange={(e) => setEnv(e.target.value)}>
            <option value="">as the suite says</option>
            {s.environments.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </Form.Select>
        </Form.Group>
      ) : null}
      {wrong || start.error ? (
        <p role="alert" className="tone-failed">
          ◆ {wrong || start.error?.message}
        </p>
      ) : null}
      <Button type="submit" disabled={start.isPending}>
        Start
      </Button>
    </Form>
    <aside>
      <SameChoice made={made()} />
      {s && s.last_runs.length > 0 ? (
        <section className="forecast-of-start">
          <h2>What it would take</h2>
          <ForecastPlot suite={chosen} options={choice} shards={shards ? Number(shards) : undefined} />
        </section>
      ) : null}
    </aside>
    </div>
  );
}

import { type FormEvent, useDeferredValue, useMemo, useState } from "react";
import { Button, Form } from "react-bootstrap";
import { useNavigate, useSearchParams } from "react-router";

import { useStart, useSuite, useSuites, type NewRun } from "../data/api";
import { ChoiceFields, lines, optionsOf, useChoice } from "../parts/ChoiceForm";
import { ForecastPlot } from "../parts/ForecastPlot";
import { Alarm, Empty, Loading, Trouble } from "../parts/Frame";
import { SameChoice } from "../parts/SameChoice";

export function StartPage() {
  const [asked, setAsked] = useSearchParams();
  const suites = useSuites();
  const chosen = asked.get("suite") ?? suites.data?.[0]?.name ?? "";
  const suite = useSuite(chosen);
  const start = useStart();
  const navigate = useNavigate();
  const [choice, set] = useChoice();
  const [wrong, setWrong] = useState("");
  // The forecast follows what is chosen, once the typing rests.
  const { pick, drop, variants } = choice;
  const rested = useDeferredValue(useMemo(() => ({ pick: lines(pick), drop: lines(drop), variants }), [pick, drop, variants]));

  if (suites.error) return <Trouble error={suites.error} />;
  if (!suites.data) return <Loading what="the suites" />;
  if (suites.data.length === 0) {
    return (
      <Empty>
        There is no suite to start. Add one in a terminal: <code>kesmo suite add FOLDER</code>
      </Empty>
    );
  }
  const made = (): NewRun | string => {
    const options = optionsOf(choice);
    if (typeof options === "string") return options;
    return { suite: chosen, branch: choice.branch.trim() || null, pool: choice.pool.trim() || null, options };
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const run = made();
    if (typeof run === "string") return setWrong(run);
    setWrong("");
    start.mutate(run, { onSuccess: (started) => void navigate(`/runs/${started.name}`) });
  };
  const s = suite.data;
  return (
    <div className="start-columns">
      <Form onSubmit={submit} className="start">
        <h1 className="figure">Start a run</h1>
        <Form.Group className="mb-3" controlId="suite">
          <Form.Label>Suite</Form.Label>
          <Form.Select value={chosen} onChange={(e) => { set({ variants: [] }); setAsked({ suite: e.target.value }); }}>
            {suites.data.map((one) => (
              <option key={one.name}>{one.name}</option>
            ))}
          </Form.Select>
          {s ? <Form.Text>{s.about}</Form.Text> : null}
        </Form.Group>
        <ChoiceFields choice={choice} set={set} suite={s} />
        <Alarm said={wrong || start.error?.message} />
        <Button type="submit" disabled={start.isPending}>
          Start
        </Button>
      </Form>
      <aside>
        <SameChoice made={made()} />
        {s && s.last_runs.length > 0 ? (
          <section className="forecast-of-start">
            <h2>What it would take</h2>
            <ForecastPlot suite={chosen} options={rested} shards={choice.shards ? Number(choice.shards) : undefined} />
          </section>
        ) : null}
      </aside>
    </div>
  );
}

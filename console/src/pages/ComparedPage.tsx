import { useState, type FormEvent } from "react";
import { Button, Form } from "react-bootstrap";
import { Link, useParams, useSearchParams } from "react-router";

import { useCompared } from "../data/history";
import { ComparedList, Setup, listsOf } from "../parts/Compared";
import { Empty } from "../parts/Frame";
import { DetailPage } from "../parts/Pages";
import { capital, plain } from "../parts/words";

/** A run against another one: what is new, what is mended, what takes longer, and what was set up otherwise. */
export function ComparedPage() {
  const { suite = "", number = "" } = useParams();
  const run = `${suite}/${number}`;
  const [asked, ask] = useSearchParams();
  const way = asked.get("with") ?? "last";
  const compared = useCompared(run, way);
  return (
    <>
      <h1 className="figure">
        <Link to={`/runs/${run}`} className="plain">
          {run}
        </Link>{" "}
        compared
      </h1>
      <Ways way={way} onWay={(way) => ask({ with: way })} />
      <DetailPage query={compared} what="both runs">
        {(found) =>
          found.with ? (
            <>
              <p className="under-figure">
                With{" "}
                <Link to={`/runs/${found.with}`} className="name">
                  {found.with}
                </Link>
                {found.because === "asked for" ? "" : `, ${plain(found.because)}`}. {found.both.toLocaleString("en")} {found.both === 1 ? "test is" : "tests are"} in both
                {found.pace ? `; at the median a test took ${found.pace.toFixed(2)} times as long` : ""}.
              </p>
              {listsOf(found).every(([list]) => found[list].total === 0) ? <Empty>● Every test ended as it did before.</Empty> : null}
              <div className="compared-lists">
                {listsOf(found)
                  .filter(([list]) => found[list].total > 0)
                  .map(([list, word, tone]) => (
                    <section key={list} aria-label={capital(word)}>
                      <h2 className={tone || undefined}>
                        {capital(word)} <small>{found[list].total.toLocaleString("en")}</small>
                      </h2>
                      <ComparedList found={found} list={list} of={found[list]} most={50} />
                    </section>
                  ))}
              </div>
              <Setup found={found} />
            </>
          ) : (
            <Empty>It is compared with nothing: {plain(found.because)}.</Empty>
          )
        }
      </DetailPage>
    </>
  );
}

const KNOWN: [string, string][] = [
  ["last", "the last of its kind"],
  ["last-passed", "the last that passed"],
  ["yesterday", "the last of an earlier day"],
];

/** Chooses what the run is compared with. */
function Ways({ way, onWay }: { way: string; onWay: (way: string) => void }) {
  const [other, setOther] = useState(KNOWN.some(([known]) => known === way) ? "" : way);
  const send = (event: FormEvent) => {
    event.preventDefault();
    if (other.trim()) onWay(other.trim());
  };
  return (
    <Form className="ways" onSubmit={send}>
      {KNOWN.map(([known, said]) => (
        <Button key={known} size="sm" variant={way === known ? "primary" : "outline-primary"} aria-pressed={way === known} onClick={() => onWay(known)}>
          {said}
        </Button>
      ))}
      <Form.Control size="sm" aria-label="Another run, or branch:NAME" placeholder="another run, or branch:NAME" value={other} onChange={(e) => setOther(e.target.value)} />
      <Button size="sm" type="submit" variant="outline-primary" disabled={!other.trim()}>
        Compare
      </Button>
    </Form>
  );
}

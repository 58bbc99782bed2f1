// Tests that were flaky of late.

import { Table } from "react-bootstrap";
import { Link } from "react-router";

import type { FlakyTest } from "../data/history";
import { percent } from "./History";
import { TestName, When, plain, span } from "./words";

/** The page on which a test is looked at over its runs. */
export const testPage = (suite: string, test: string, variant: string) => `/suites/${suite}?test=${encodeURIComponent(test)}&variant=${encodeURIComponent(variant)}`;

const GLYPHS: Record<string, [string, string]> = { p: ["●", "tone-passed"], k: ["◐", "tone-flaky"], f: ["◆", "tone-failed"] };

/** How its last runs ended, the latest on the right. */
function Series({ series }: { series: string }) {
  const last = series.slice(-24);
  return (
    <span className="series" role="img" aria-label={`Its last ${last.length} runs: ${[...last].filter((l) => l === "k").length} flaky, ${[...last].filter((l) => l === "f").length} failed`}>
      {[...last].map((letter, i) => (
        <span key={i} className={GLYPHS[letter]?.[1]}>
          {GLYPHS[letter]?.[0]}
        </span>
      ))}
    </span>
  );
}

export function FlakyTable({ tests, suites, most = 500 }: { tests: FlakyTest[]; suites?: boolean; most?: number }) {
  return (
    <Table size="sm" hover className="dense">
      <thead>
        <tr>
          {suites ? <th>Suite</th> : null}
          <th>Test</th>
          <th>Flaky in</th>
          <th title="With 95% the share lies in there (Wilson)">Surely</th>
          <th className="wide-only">Last runs</th>
          <th className="number">Retries took</th>
          <th>Last</th>
        </tr>
      </thead>
      <tbody>
        {tests.slice(0, most).map((test) => (
          <tr key={`${test.suite}/${test.test}/${test.variant}`}>
            {suites ? (
              <td>
                <Link to={`/suites/${test.suite}`} className="name">
                  {test.suite}
                </Link>
              </td>
            ) : null}
            <td>
              <Link to={testPage(test.suite, test.test, test.variant)} className="plain">
                <TestName name={test.test} variant={test.variant} />
              </Link>
              {test.message ? <div className="why">{plain(test.message.split("\n")[0]).slice(0, 120)}</div> : null}
            </td>
            <td className="text-nowrap">
              <span className="tone-flaky">
                ◐ {test.flaky.hits} of {test.flaky.of}
              </span>
              {test.failed > 0 ? <div className="tone-failed">◆ failed in {test.failed}</div> : null}
            </td>
            <td className="text-nowrap">
              {percent(test.flaky.low)} to {percent(test.flaky.high)}
              {test.trend === "steady" ? null : <div className={test.trend === "grows" ? "tone-failed" : "tone-passed"}>{test.trend === "grows" ? "↗ grows" : "↘ fades"}</div>}
            </td>
            <td className="wide-only">
              <Series series={test.series} />
            </td>
            <td className="number">{span(test.retried_us)}</td>
            <td className="text-nowrap">
              <Link to={`/runs/${test.last}/tests/${test.entry}`} className="name">
                {test.last}
              </Link>
              <div>
                <When at={test.last_at} />
              </div>
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

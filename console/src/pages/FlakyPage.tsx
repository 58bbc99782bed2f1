import { useFlaky } from "../data/history";
import { FlakyTable } from "../parts/Flaky";
import { Empty } from "../parts/Frame";
import { DetailPage } from "../parts/Pages";
import { span } from "../parts/words";

/** The tests of all suites that were flaky of late. */
export function FlakyPage() {
  const flaky = useFlaky();
  return (
    <DetailPage query={flaky} what="what was flaky">
      {(found) =>
        found.tests.length === 0 ? (
          <Empty>● No test was flaky since {found.since}.</Empty>
        ) : (
          <>
            <h1 className="figure">
              {found.tests.length} flaky {found.tests.length === 1 ? "test" : "tests"}
            </h1>
            <p className="under-figure">Since {found.since}. Their retries took {span(found.retried_us)} of slots' time. Those that are surely flaky most often come first.</p>
            <FlakyTable tests={found.tests} suites />
          </>
        )
      }
    </DetailPage>
  );
}

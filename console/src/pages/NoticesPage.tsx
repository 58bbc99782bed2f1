import { useState } from "react";
import { Button, Table } from "react-bootstrap";
import { Link } from "react-router";

import { type NoticeOf, useNotices } from "../data/notices";
import { useMayKeep } from "../data/pools";
import { NoticeForm } from "../parts/NoticeForm";
import { ListPage } from "../parts/Pages";
import { plain } from "../parts/words";

const HOW = "kesmo notice add NAME --when newly-failing --when mended --mail crew@quay.example";

/** How a notice's messages stand. */
export function Stands({ of }: { of: NoticeOf }) {
  const parts = [`${of.sent_count} sent`];
  if (of.gathering > 0) parts.push(`${of.gathering} waiting`);
  if (of.told_before > 0) parts.push(`${of.told_before} told before`);
  return (
    <>
      {parts.join(", ")}
      {of.trying > 0 ? <span className="tone-void">, ⊘ {of.trying} being tried</span> : null}
      {of.given_up > 0 ? <span className="tone-failed">, ◆ {of.given_up} given up</span> : null}
    </>
  );
}

export function NoticesPage() {
  const [making, setMaking] = useState(false);
  const may = useMayKeep();
  return (
    <ListPage
      query={useNotices()}
      what="the notices"
      one="notice"
      before={may ? (
        <section>
          <p>
            <Button size="sm" variant="outline-primary" aria-expanded={making} onClick={() => setMaking(!making)}>
              {making ? "Close" : "Make a notice"}
            </Button>
          </p>
          {making ? <NoticeForm onDone={() => setMaking(false)} /> : null}
        </section>
      ) : null}
      none={
        <>
          Nobody is told anything yet. In a terminal: <code>{HOW}</code>
        </>
      }
    >
      {(all) => (
        <>
          <p className="under-figure">
            Who is told what, by mail, in a chat, at an address or on a commit. In a terminal: <code>{HOW}</code>
          </p>
          <Table size="sm" hover className="dense">
            <thead>
              <tr>
                <th>Notice</th>
                <th>When</th>
                <th>Of</th>
                <th>To</th>
                <th>Messages</th>
              </tr>
            </thead>
            <tbody>
              {all.map((notice) => (
                <tr key={notice.name}>
                  <td className="text-nowrap">
                    <Link to={`/notices/${notice.name}`} className="name">
                      {notice.name}
                    </Link>
                    {notice.paused ? <span className="tone-parked"> ▭ paused</span> : null}
                  </td>
                  <td>{notice.when.join(", ")}</td>
                  <td>{notice.of}</td>
                  <td>
                    {notice.to} <span className="name">{notice.address}</span>
                  </td>
                  <td>
                    <Stands of={notice} />
                    {notice.trouble && notice.given_up === 0 ? <div className="tone-void">⊘ {plain(notice.trouble)}</div> : null}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
    </ListPage>
  );
}

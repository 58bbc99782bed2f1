import { useState } from "react";
import { Button, Table } from "react-bootstrap";
import { useNavigate, useParams } from "react-router";

import { type NoticeMessage, type NoticeOf, useNotice, useNoticeMessage, usePauseNotice, useRemoveNotice, useSendAgain, useTryNotice } from "../data/notices";
import { useMayKeep } from "../data/pools";
import { Alarm } from "../parts/Frame";
import { NoticeForm } from "../parts/NoticeForm";
import { DetailPage } from "../parts/Pages";
import { Facts, When, plain } from "../parts/words";
import { Stands } from "./NoticesPage";

export function NoticePage() {
  const { notice: name = "" } = useParams();
  return (
    <DetailPage query={useNotice(name)} what={`the notice ${name}`}>
      {(one) => <OneNotice of={one} />}
    </DetailPage>
  );
}

/** How a message stands. */
function Sent({ of }: { of: NoticeMessage }) {
  const word = of.state.replace("-", " ");
  const [tone, glyph] = of.state === "sent" ? ["passed", "●"] : of.state === "given-up" ? ["failed", "◆"] : ["running", "≈"];
  return (
    <span className={`tone-${tone} text-nowrap`}>
      {glyph} {word}
      {of.sample ? " (sample)" : ""}
    </span>
  );
}

function OneNotice({ of }: { of: NoticeOf }) {
  const [pause, remove, again, tried] = [usePauseNotice(), useRemoveNotice(), useSendAgain(of.name), useTryNotice()];
  const [open, setOpen] = useState<number | null>(null);
  const message = useNoticeMessage(of.name, open);
  const navigate = useNavigate();
  const may = useMayKeep();
  const [changing, setChanging] = useState(false);
  const error = pause.error ?? remove.error ?? again.error ?? tried.error;
  return (
    <div className="two-columns">
      <section>
        <h1 className="figure name">{of.name}</h1>
        <p className="under-figure">
          Tells of {of.of} when {of.when.join(", ")}: {of.to} to <span className="name">{of.address}</span>. {of.paused ? <span className="tone-parked">▭ It is paused: what happens is not told.</span> : null}
        </p>
        {of.trouble ? (
          <p className="tone-failed" role="status">
            ◆ {plain(of.trouble)}
          </p>
        ) : null}
        <Alarm said={error?.message} />
        <div role="status">{tried.data ? <p className={tried.data.state === "sent" ? "tone-passed" : "tone-failed"}>{tried.data.state === "sent" ? `● The sample is sent: ${plain(tried.data.said)}` : `◆ The sample did not get through: ${plain(tried.data.said)}`}</p> : null}</div>
        {changing ? <NoticeForm of={of} onDone={() => setChanging(false)} /> : null}
        <h2>Messages</h2>
        {of.messages.length === 0 ? (
          <p className="under-figure">Nothing was sent yet.</p>
        ) : (
          <Table size="sm" hover className="dense">
            <thead>
              <tr>
                <th className="number">Number</th>
                <th>Made</th>
                <th>State</th>
                <th>Message</th>
                <th className="wide-only">Its receiver said</th>
                <th>
                  <span className="visually-hidden">Do</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {of.messages.map((m) => (
                <tr key={m.number}>
                  <td className="number">{m.number}</td>
                  <td>
                    <When at={m.made_at} />
                  </td>
                  <td>
                    <Sent of={m} />
                  </td>
                  <td>
                    <Button size="sm" variant="link" className="text-start p-0" aria-pressed={open === m.number} onClick={() => setOpen(open === m.number ? null : m.number)} aria-label={`Message ${m.number}`}>
                      {plain(m.subject)}
                    </Button>
                  </td>
                  <td className="wide-only why">
                    {plain(m.said)}
                    {m.next_at && m.tries > 0 ? (
                      <>
                        {" "}
                        (tried {m.tries === 1 ? "once" : `${m.tries} times`}; again <When at={m.next_at} />)
                      </>
                    ) : null}
                  </td>
                  <td className="number">
                    {may && m.state !== "trying" ? (
                      <Button size="sm" variant="link" disabled={again.isPending} onClick={() => again.mutate(m.number)} aria-label={`Send ${m.number} again`}>
                        Send again
                      </Button>
                    ) : null}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        )}
        {open !== null && message.data ? (
          <pre className="output" tabIndex={0} aria-label={`What message ${open} says`}>
            {message.data.text}
          </pre>
        ) : null}
        {of.kept.length > 0 ? (
          <>
            <h2>Not sent</h2>
            <Table size="sm" hover className="dense">
              <thead>
                <tr>
                  <th>At</th>
                  <th>What happened</th>
                  <th>Why</th>
                </tr>
              </thead>
              <tbody>
                {of.kept.map((event) => (
                  <tr key={`${event.at} ${event.title}`}>
                    <td>
                      <When at={event.at} />
                    </td>
                    <td>{plain(event.title)}</td>
                    <td className="why">{event.due_at ? <>waits until <When at={event.due_at} /></> : plain(event.why ?? "")}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </>
        ) : null}
      </section>
      <aside>
        {may ? (
          <div className="actions">
            <Button size="sm" variant="outline-primary" disabled={tried.isPending} onClick={() => tried.mutate(of.name)}>
              Send a sample
            </Button>
            <Button size="sm" variant="outline-primary" disabled={pause.isPending} onClick={() => pause.mutate({ name: of.name, paused: !of.paused })}>
              {of.paused ? "Go on" : "Pause"}
            </Button>
            <Button size="sm" variant="outline-primary" aria-expanded={changing} onClick={() => setChanging(!changing)}>
              {changing ? "Close" : "Change"}
            </Button>
            <Button size="sm" variant="outline-danger" disabled={remove.isPending} onClick={() => remove.mutate(of.name, { onSuccess: () => void navigate("/notices") })}>
              Remove
            </Button>
          </div>
        ) : null}
        <Facts
          rows={[
            ["When", of.when.map((when) => <div key={when} className="name">{when}</div>)],
            ["Of", of.of],
            ["To", <span key="to">{of.to} <span className="name">{of.address}</span></span>],
            ["Sent", of.sent ?? "at once"],
            ["Messages", <Stands key="stands" of={of} />],
            ["Made", <span key="made"><When at={of.made_at} /> by {of.made_by}</span>],
          ]}
        />
      </aside>
    </div>
  );
}

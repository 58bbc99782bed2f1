// Shares a run's report: makes an address that needs no sign-in, and shows it once.

import { useMutation } from "@tanstack/react-query";
import { Button } from "react-bootstrap";

import { api, told } from "../data/api";
import { Copy } from "./Copy";
import { Alarm } from "./Frame";
import { When } from "./words";


export function ShareRun({ run }: { run: string }) {
  const share = useMutation({ mutationFn: () => told(api.POST("/api/shares", { body: { kind: "run", run } })) });
  return (
    <>
      <Button size="sm" variant="outline-primary" onClick={() => share.mutate()} disabled={share.isPending || share.isSuccess} title="Make an address of its report for whoever has no account here">
        Share the report
      </Button>
      <Alarm said={share.error?.message} />
      {share.data ? (
        <p role="status" className="shared">
          Whoever has this address sees the report until {share.data.until ? <When at={share.data.until} /> : "it is ended"}: <code className="name">{share.data.address}</code> <Copy text={share.data.address ?? ""} />
        </p>
      ) : null}
    </>
  );
}

// A button that copies a text.

import { useState } from "react";
import { Button } from "react-bootstrap";

export function Copy({ text }: { text: string }) {
  const [done, setDone] = useState("");
  const copy = () =>
    // A page that is not served over https may not write to the clipboard: then it is selected by hand.
    navigator.clipboard ? navigator.clipboard.writeText(text).then(() => setDone("copied"), () => setDone("select it and copy")) : setDone("select it and copy");
  return (
    <>
      <Button size="sm" variant="link" onClick={() => void copy()}>
        Copy
      </Button>
      <span role="status">{done}</span>
    </>
  );
}

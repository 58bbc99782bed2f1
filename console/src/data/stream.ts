// A live stream that is open only while its page is seen. A browser keeps few connections to one service (six, over
// HTTP/1.1, for all tabs together): streams of hidden tabs, and of pages that were left, would use them up.

type Handler = (data: string) => boolean | void;

/** A stream of a hidden page is closed after this many milliseconds; back in view, it begins with a snapshot again. */
const HIDDEN_FOR = 5000;

/**
 * Opens a stream. A handler that returns true has had all it needs: the stream is closed for good. `cut` is told whether
 * the service refused the stream, or it was merely cut and the browser reconnects. Returns what closes it.
 */
export function openStream(url: string, handlers: Record<string, Handler>, cut: (refused: boolean) => void): () => void {
  let stream: EventSource | null = null;
  let over = false;
  let hiding: ReturnType<typeof setTimeout> | undefined;
  const close = () => {
    stream?.close();
    stream = null;
  };
  const open = () => {
    if (stream || over) return;
    const opened = new EventSource(url);
    stream = opened;
    for (const [kind, handle] of Object.entries(handlers)) {
      opened.addEventListener(kind, (event: MessageEvent<string>) => {
        if (handle(event.data) === true) {
          over = true;
          close();
        }
      });
    }
    // A closed stream is one that the service refused; to a cut one the browser reconnects.
    opened.onerror = () => {
      if (stream === opened) cut(opened.readyState === EventSource.CLOSED);
    };
  };
  const seen = () => {
    clearTimeout(hiding);
    if (document.visibilityState === "visible") open();
    else hiding = setTimeout(close, HIDDEN_FOR);
  };
  document.addEventListener("visibilitychange", seen);
  window.addEventListener("pagehide", close);
  window.addEventListener("pageshow", seen);
  open();
  return () => {
    over = true;
    clearTimeout(hiding);
    document.removeEventListener("visibilitychange", seen);
    window.removeEventListener("pagehide", close);
    window.removeEventListener("pageshow", seen);
    close();
  };
}

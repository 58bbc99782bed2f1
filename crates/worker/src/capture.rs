//! Keeps what processes print within bounds: lines of bounded length to read results from, and a log with its middle cut.

use std::collections::VecDeque;

use kesmo_core::time::Bytes;

/// Cuts a stream of bytes into lines. Of a line longer than the bound only the beginning is given out.
#[derive(Debug)]
pub struct Lines {
    partial: Vec<u8>,
    longest: usize,
}

impl Lines {
    pub fn new(longest: usize) -> Self {
        Self { partial: Vec::new(), longest }
    }

    /// Takes bytes and hands each whole line, with the bytes that make it, to `each`.
    pub fn take(&mut self, bytes: &[u8], mut each: impl FnMut(&str, &[u8])) {
        let mut rest = bytes;
        while let Some(end) = rest.iter().position(|b| *b == b'\n') {
            let (line, after) = rest.split_at(end + 1);
            rest = after;
            let end = line.len() - 1;
            if self.partial.is_empty() {
                each(&text(&line[..end.min(self.longest)]), line);
            } else {
                let room = self.longest.saturating_sub(self.partial.len());
                self.partial.extend_from_slice(&line[..end.min(room)]);
                let whole = std::mem::take(&mut self.partial);
                each(&text(&whole), line);
            }
        }
        let room = self.longest.saturating_sub(self.partial.len());
        self.partial.extend_from_slice(&rest[..rest.len().min(room)]);
        if !rest.is_empty() {
            each("", rest);
        }
    }

    /// The last line, if it has no end.
    pub fn finish(&mut self) -> Option<String> {
        let last = std::mem::take(&mut self.partial);
        (!last.is_empty()).then(|| text(&last).into_owned())
    }
}

fn text(bytes: &[u8]) -> std::borrow::Cow<'_, str> {
    String::from_utf8_lossy(bytes.strip_suffix(b"\r").unwrap_or(bytes))
}

/// What an attempt printed: its beginning and its end, and how much was cut between them.
#[derive(Debug)]
pub struct CappedLog {
    head: Vec<u8>,
    tail: VecDeque<u8>,
    cut: u64,
    most: usize,
}

impl CappedLog {
    pub fn new(most: Bytes) -> Self {
        let most = usize::try_from(most.0).unwrap_or(usize::MAX).clamp(1024, 256 << 20);
        Self { head: Vec::new(), tail: VecDeque::new(), cut: 0, most }
    }

    pub fn add(&mut self, bytes: &[u8]) {
        let half = self.most / 2;
        let room = half.saturating_sub(self.head.len());
        let (first, rest) = bytes.split_at(bytes.len().min(room));
        self.head.extend_from_slice(first);
        // Of a huge piece only what can stay is copied.
        let (skipped, rest) = rest.split_at(rest.len().saturating_sub(half));
        if !skipped.is_empty() {
            self.cut += self.tail.len() as u64 + skipped.len() as u64;
            self.tail.clear();
        }
        self.tail.extend(rest);
        let over = self.tail.len().saturating_sub(half);
        self.tail.drain(..over);
        self.cut += over as u64;
    }

    /// How many bytes were added since it was empty.
    pub fn total(&self) -> u64 {
        self.head.len() as u64 + self.cut + self.tail.len() as u64
    }

    /// What came after the first `sent` bytes, as far as it is still there, at most `most` bytes of it: where that begins, how
    /// many bytes it is, and the text. A character that is not whole yet is left for the next time.
    pub fn since(&self, sent: u64, most: usize) -> (u64, u64, String) {
        let head = self.head.len() as u64;
        let (from, mut bytes): (u64, Vec<u8>) = if sent < head && self.cut == 0 {
            let all = self.head[sent as usize..].iter().chain(&self.tail);
            (sent, all.take(most).copied().collect())
        } else if sent < head {
            (sent, self.head[sent as usize..].iter().take(most).copied().collect())
        } else {
            let from = sent.max(head + self.cut);
            let skipped = (from - head - self.cut) as usize;
            (from, self.tail.iter().skip(skipped).take(most).copied().collect())
        };
        if let Err(e) = std::str::from_utf8(&bytes)
            && e.error_len().is_none()
        {
            bytes.truncate(e.valid_up_to());
        }
        (from, bytes.len() as u64, String::from_utf8_lossy(&bytes).into_owned())
    }

    /// The log as text, and empty again. Bytes that are not UTF-8 are replaced, and the log says so.
    pub fn take(&mut self) -> String {
        let mut bytes = std::mem::take(&mut self.head);
        let cut = std::mem::take(&mut self.cut);
        if cut > 0 {
            let say = format!("\n[kesmo: {} cut here; [limits] output is {}]\n", Bytes(cut), Bytes(self.most as u64));
            bytes.extend_from_slice(say.as_bytes());
        }
        bytes.extend(std::mem::take(&mut self.tail));
        // The head and the tail may begin or end within a character where something was cut.
        match String::from_utf8(bytes) {
            Ok(text) => text,
            Err(e) => {
                let text = String::from_utf8_lossy(e.as_bytes()).into_owned();
                if cut > 0 {
                    text
                } else {
                    format!("[kesmo: this output is not UTF-8; what could not be read is shown as \u{fffd}]\n{text}")
                }
            }
        }
    }

    /// The last lines that are not blank, for a message.
    pub fn last_lines(&self, most: usize) -> String {
        let end: Vec<u8> = if self.tail.is_empty() {
            self.head[self.head.len().saturating_sub(2000)..].to_vec()
        } else {
            self.tail.iter().skip(self.tail.len().saturating_sub(2000)).copied().collect()
        };
        let text = String::from_utf8_lossy(&end).into_owned();
        let lines: Vec<&str> = text.lines().map(str::trim_end).filter(|l| !l.trim().is_empty()).collect();
        lines[lines.len().saturating_sub(most)..].join("\n")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(chunks: &[&[u8]], longest: usize) -> Vec<String> {
        let mut lines = Lines::new(longest);
        let mut found = Vec::new();
        for chunk in chunks {
            lines.take(chunk, |line, raw| {
                if raw.ends_with(b"\n") {
                    found.push(line.to_owned());
                }
            });
        }
        found.extend(lines.finish());
        found
    }

    #[test]
    fn lines_are_put_together_from_pieces() {
        assert_eq!(lines(&[b"ok 1\nok", b" 2\r\n", b"\nlast"], 100), ["ok 1", "ok 2", "", "last"]);
    }

    #[test]
    fn a_line_without_end_stays_within_bounds() {
        let piece = vec![b'x'; 1000];
        let mut all = Lines::new(50);
        for _ in 0..10_000 {
            all.take(&piece, |_, _| ());
        }
        assert!(all.partial.capacity() < 4096);
        assert_eq!(all.finish().map(|l| l.len()), Some(50));
    }

    #[test]
    fn the_middle_of_a_long_log_is_cut_and_says_so() {
        let mut log = CappedLog::new(Bytes(1024));
        log.add(b"first line\n");
        for _ in 0..100 {
            log.add(&[b'x'; 700]);
        }
        log.add(b"\nlast line\n");
        let text = log.take();
        assert!(text.starts_with("first line\n") && text.ends_with("last line\n"));
        assert!(text.contains("cut here") && text.len() < 1200, "{}", text.len());
        assert_eq!(log.take(), "");
    }

    #[test]
    fn what_is_new_is_told_piece_by_piece() {
        let mut log = CappedLog::new(Bytes(1024));
        log.add("första ".as_bytes());
        assert_eq!(log.since(0, 100), (0, 8, "första ".into()));
        log.add(&[0xc3]);
        assert_eq!(log.since(8, 100), (8, 0, String::new()), "half a character waits");
        log.add(&[0xa5, b'!']);
        assert_eq!(log.since(8, 100), (8, 3, "å!".into()));
        assert_eq!(log.since(8, 2), (8, 2, "å".into()));
        assert_eq!(log.total(), 11);
        // Of a log whose middle was cut, what is left is told, and from where.
        for _ in 0..10 {
            log.add(&[b'x'; 500]);
        }
        let (from, bytes, text) = log.since(600, 10_000);
        assert_eq!((from + bytes, text.len()), (log.total(), 512));
        assert!(from > 600);
        log.take();
        assert_eq!(log.total(), 0);
    }

    #[test]
    fn output_that_is_not_text_says_so() {
        let mut log = CappedLog::new(Bytes(1024));
        log.add(b"caf\xe9\n");
        assert!(log.take().starts_with("[kesmo: this output is not UTF-8"));
    }

    #[test]
    fn the_last_lines_make_a_message() {
        let mut log = CappedLog::new(Bytes(4096));
        log.add(b"a\nb\n\nc\n\n");
        assert_eq!(log.last_lines(2), "b\nc");
    }
}

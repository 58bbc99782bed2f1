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

//! Keeps secrets out of what is told: wherever the value of one turns up in what a process prints or writes, `***` is told in its place,
//! also where it stands in base64 or in an address, and where it comes in pieces.

use std::{
    io,
    pin::Pin,
    sync::Arc,
    task::{Context, Poll, ready},
};

use aho_corasick::{AhoCorasick, MatchKind};
use base64::{
    Engine,
    engine::general_purpose::{STANDARD_NO_PAD, URL_SAFE_NO_PAD},
};
use kesmo_engine::Output;
use kesmo_wire::link::SecretGiven;
use tokio::io::{AsyncRead, ReadBuf};

/// What is told in the place of a secret.
const INSTEAD: &[u8] = b"***";
/// Lines of a secret of several lines are masked each, from this length on.
const SHORTEST_LINE: usize = 8;
/// Bytes that are read at once.
const READ: usize = 16 << 10;

/// What is not to be told.
#[derive(Debug, Clone)]
pub struct Mask(Arc<Patterns>);

#[derive(Debug)]
struct Patterns {
    /// Sorted, each once.
    all: Vec<Vec<u8>>,
    finder: AhoCorasick,
    longest: usize,
}

impl Mask {
    /// The mask of some secrets; none where there are none.
    pub fn of(secrets: &[SecretGiven]) -> Option<Self> {
        let mut all: Vec<Vec<u8>> = secrets.iter().flat_map(|secret| forms(&secret.value)).collect();
        all.sort();
        all.dedup();
        let finder = AhoCorasick::builder().match_kind(MatchKind::LeftmostLongest).build(&all).ok()?;
        let longest = all.iter().map(Vec::len).max()?;
        Some(Self(Arc::new(Patterns { all, finder, longest })))
    }

    /// Bytes without secrets.
    pub fn bytes(&self, bytes: &[u8]) -> Vec<u8> {
        let mut masked = Vec::with_capacity(bytes.len());
        let mut told = 0;
        for found in self.0.finder.find_iter(bytes) {
            masked.extend(&bytes[told..found.start()]);
            masked.extend(INSTEAD);
            told = found.end();
        }
        masked.extend(&bytes[told..]);
        masked
    }

    /// Text without secrets.
    pub fn text(&self, text: &str) -> String {
        String::from_utf8_lossy(&self.bytes(text.as_bytes())).into_owned()
    }

    /// Where an end begins that a secret may go on from: it is held until it is known.
    fn open_end(&self, bytes: &[u8]) -> usize {
        let all = &self.0.all;
        // They are sorted: what begins with the end, and is longer, comes right after it.
        let open = |at: &usize| {
            let end = &bytes[*at..];
            all.get(all.partition_point(|form| form.as_slice() <= end)).is_some_and(|form| form.starts_with(end))
        };
        let first = bytes.len().saturating_sub(self.0.longest - 1);
        (first..bytes.len()).find(open).unwrap_or(bytes.len())
    }
}

/// Masks what comes in pieces.
#[derive(Debug, Default)]
pub struct Piecewise(Vec<u8>);

impl Piecewise {
    /// Takes a piece; tells what may be told now.
    pub fn take(&mut self, mask: &Mask, piece: &[u8]) -> Vec<u8> {
        self.0.extend(piece);
        // A secret that is whole may be the beginning of a longer one; so what is open is looked for first.
        let end = mask.open_end(&self.0);
        let mut masked = Vec::new();
        let mut told = 0;
        for found in mask.0.finder.find_iter(&self.0) {
            if found.start() >= end {
                break;
            }
            masked.extend(&self.0[told..found.start()]);
            masked.extend(INSTEAD);
            told = found.end();
        }
        if told < end {
            masked.extend(&self.0[told..end]);
            told = end;
        }
        self.0.drain(..told);
        masked
    }

    /// Nothing more comes: tells what was held.
    pub fn finish(&mut self, mask: &Mask) -> Vec<u8> {
        mask.bytes(&std::mem::take(&mut self.0))
    }
}

/// All forms in which a value is looked for.
fn forms(value: &str) -> Vec<Vec<u8>> {
    let mut all = Vec::new();
    let lines = value.lines().map(str::trim).filter(|line| line.len() >= SHORTEST_LINE);
    let whole = value.trim();
    for text in std::iter::once(whole).chain(lines).filter(|text| !text.is_empty()) {
        all.push(text.as_bytes().to_vec());
        all.push(in_address(text, false).into_bytes());
        all.push(in_address(text, true).into_bytes());
        all.push(in_json(text).into_bytes());
        all.push(in_xml(text).into_bytes());
        for engine in [&STANDARD_NO_PAD, &URL_SAFE_NO_PAD] {
            all.extend((0..3).filter_map(|before| in_base64(text.as_bytes(), before, engine)));
        }
    }
    all
}

/// The letters of base64 (RFC 4648, section 4) that a value alone decides where so many bytes, modulo three, stand before it.
fn in_base64(value: &[u8], before: usize, engine: &impl Engine) -> Option<Vec<u8>> {
    let text = engine.encode([&vec![0; before], value].concat());
    let (first, end) = ((before * 8).div_ceil(6), (before + value.len()) * 8 / 6);
    // Few letters would turn up anywhere.
    (end >= first + 6).then(|| text.as_bytes()[first..end].to_vec())
}

/// As it stands in an address: what is not unreserved (RFC 3986, section 2.3) is written as its bytes; in forms a space is a plus.
fn in_address(text: &str, form: bool) -> String {
    let byte = |b: u8| match b {
        b if b.is_ascii_alphanumeric() || b"-._~".contains(&b) => char::from(b).to_string(),
        b' ' if form => "+".to_owned(),
        b => format!("%{b:02X}"),
    };
    text.bytes().map(byte).collect()
}

fn in_json(text: &str) -> String {
    let quoted = serde_json::to_string(text).unwrap_or_default();
    quoted.strip_prefix('"').and_then(|text| text.strip_suffix('"')).unwrap_or_default().to_owned()
}

fn in_xml(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;").replace('\'', "&apos;")
}

/// What a process prints, without secrets.
struct Masked {
    inner: Output,
    mask: Mask,
    pieces: Piecewise,
    /// Masked, and not taken yet; from `told` on.
    out: Vec<u8>,
    told: usize,
    over: bool,
}

/// What a process prints, without secrets.
pub fn masked(inner: Output, mask: Mask) -> Output {
    Box::pin(Masked { inner, mask, pieces: Piecewise::default(), out: Vec::new(), told: 0, over: false })
}

impl AsyncRead for Masked {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, to: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let it = &mut *self;
        loop {
            if it.told < it.out.len() {
                let some = &it.out[it.told..];
                let some = &some[..some.len().min(to.remaining())];
                to.put_slice(some);
                it.told += some.len();
                return Poll::Ready(Ok(()));
            }
            if it.over {
                return Poll::Ready(Ok(()));
            }
            let mut buffer = [0; READ];
            let mut read = ReadBuf::new(&mut buffer);
            ready!(it.inner.as_mut().poll_read(cx, &mut read))?;
            it.told = 0;
            it.over = read.filled().is_empty();
            it.out = if it.over { it.pieces.finish(&it.mask) } else { it.pieces.take(&it.mask, read.filled()) };
        }
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::AsyncReadExt;

    use super::*;

    fn mask(values: &[&str]) -> Mask {
        let secret = |value: &&str| SecretGiven { variable: "S".into(), as_file: false, value: (*value).to_owned() };
        Mask::of(&values.iter().map(secret).collect::<Vec<_>>()).expect("there are some")
    }

    #[test]
    fn a_secret_is_masked_in_all_its_forms() {
        let value = "s3cret <pass> & \"word\"";
        let mask = mask(&[value]);
        for around in ["", "a", "ab", "user:"] {
            for engine in [&STANDARD_NO_PAD, &URL_SAFE_NO_PAD] {
                let text = engine.encode(format!("{around}{value} and more"));
                let said = mask.text(&text);
                assert!(said.contains("***") && said.len() < text.len() - 20, "{text} {said}");
            }
        }
        for form in [
            value.to_owned(),
            "s3cret%20%3Cpass%3E%20%26%20%22word%22".into(),
            "s3cret+%3Cpass%3E+%26+%22word%22".into(),
            "s3cret <pass> & \\\"word\\\"".into(),
            "s3cret &lt;pass&gt; &amp; &quot;word&quot;".into(),
        ] {
            assert_eq!(mask.text(&format!("({form})")), "(***)");
        }
        assert_eq!(mask.text("s3cret <pass"), "s3cret <pass", "a part of it is none");
        assert!(Mask::of(&[]).is_none());
    }

    #[test]
    fn of_a_secret_of_several_lines_each_is_masked() {
        let key = "-----BEGIN KEY-----\nMIIEvQIBADANBgkq\nshort\nhkiG9w0BAQEFAASC\n-----END KEY-----\n";
        let mask = mask(&[key]);
        assert_eq!(mask.text(&format!("[{}]", key.trim())), "[***]");
        assert_eq!(mask.text("| hkiG9w0BAQEFAASC |"), "| *** |");
        assert_eq!(mask.text("short"), "short");
    }

    #[test]
    fn wherever_it_is_cut_nothing_of_it_is_told_and_nothing_else_is_held() {
        let mask = mask(&["abcabd", "abcabd-and-longer", "zz-secret"]);
        let text = "x abcabd y abcabd-and-longer z abcab abcabcabd zz-secre\nok 1 - a\n";
        let wanted = "x *** y *** z abcab abc*** zz-secre\nok 1 - a\n";
        for cut in 0..text.len() {
            for second in [cut, (cut + 3).min(text.len())] {
                let mut pieces = Piecewise::default();
                let mut told = pieces.take(&mask, &text.as_bytes()[..cut]);
                told.extend(pieces.take(&mask, &text.as_bytes()[cut..second]));
                told.extend(pieces.take(&mask, &text.as_bytes()[second..]));
                // A whole line is told at once.
                assert!(told.ends_with(b"\n"), "{cut}");
                told.extend(pieces.finish(&mask));
                assert_eq!(String::from_utf8_lossy(&told), wanted, "cut at {cut}");
            }
        }
        let mut pieces = Piecewise::default();
        assert_eq!(pieces.take(&mask, b"waits abca"), b"waits ");
        assert_eq!(pieces.finish(&mask), b"abca", "with the end it is known to be none");
    }

    #[tokio::test]
    async fn what_is_read_is_masked_to_its_end() {
        let text = "one zz-secret two zz-sec";
        let inner: Output = Box::pin(io::Cursor::new(text.as_bytes().to_vec()));
        let mut said = String::new();
        masked(inner, mask(&["zz-secret"])).read_to_string(&mut said).await.unwrap();
        assert_eq!(said, "one *** two zz-sec");
    }
}

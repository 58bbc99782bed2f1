//! A report as comma-separated values (RFC 4180), for spreadsheets: one row for each entry or case, and one for what no case shows.

use super::whole::{ReportCase, THE_RUN, Whole};

const HEADS: [&str; 9] =
    ["test", "file", "variant", "outcome", "fails", "attempts", "seconds", "message", "why_parked"];

/// A cell that is kept apart from its neighbours. Spreadsheets carry out what begins like a formula: such a cell begins with an
/// apostrophe, so that it is taken for text.
#[must_use]
pub fn cell(text: &str) -> String {
    let formula = text.starts_with(['=', '+', '-', '@', '\t', '\r']);
    let text = if formula { format!("'{text}") } else { text.to_owned() };
    if text.contains(['"', ',', '\n', '\r']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text }
}

/// A row: its cells with commas between them, and the end of the line that RFC 4180 asks for.
pub fn row<'a>(cells: impl IntoIterator<Item = &'a str>) -> String {
    let cells: Vec<String> = cells.into_iter().map(cell).collect();
    cells.join(",") + "\r\n"
}

/// Writes a report.
pub(super) fn write(whole: &Whole<'_>, cases: &[ReportCase<'_>]) -> String {
    let mut out = row(HEADS);
    for trouble in whole.troubles(cases) {
        let outcome = if trouble.error { "error" } else { "failed" };
        out += &row([THE_RUN, "", "", outcome, "yes", "0", "", &format!("{}: {}", trouble.what, trouble.why), ""]);
    }
    for case in cases {
        let last = case.attempts.iter().rev().find(|a| a.ended.failing());
        let fails = if whole.fails(case.outcome) { "yes" } else { "no" };
        let (attempts, seconds) = (case.attempts.len().to_string(), format!("{:.6}", case.spent.0 as f64 / 1e6));
        let message = last.map_or("", |a| a.message);
        let why = case.why_parked.unwrap_or("");
        out +=
            &row([case.name, case.file, case.variant, case.outcome.word(), fails, &attempts, &seconds, message, why]);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_are_quoted_and_formulas_are_text() {
        assert_eq!(cell("plain"), "plain");
        assert_eq!(cell("a,b"), "\"a,b\"");
        assert_eq!(cell("said \"no\"\nand more"), "\"said \"\"no\"\"\nand more\"");
        assert_eq!(cell("=HYPERLINK(\"http://x\")"), "\"'=HYPERLINK(\"\"http://x\"\")\"");
        for begins in ["+1", "-1", "@a", "\ta"] {
            assert_eq!(cell(begins), format!("'{begins}"));
        }
        assert_eq!(row(["a", "", "b,c"]), "a,,\"b,c\"\r\n");
    }
}

//! Measures, as lines.

use kesmo_core::measure::limit::{said, with_unit};
use kesmo_wire::api::MeasureNow;

use super::{Paint, columns, paint, safe::plain};

/// Lines of a log that tell measures at a time.
const MOST_LINES: usize = 10;

/// What is measured, a line for each: how many, how many a second, mean, smallest, largest, 95th percentile, errors.
pub fn lines(measures: &[MeasureNow]) -> Vec<String> {
    let room = measures.iter().take(MOST_LINES).map(|m| columns(&plain(&m.name))).max().unwrap_or(0);
    let line = |m: &MeasureNow| {
        let name = plain(&m.name);
        let gap = " ".repeat(room.saturating_sub(columns(&name)));
        let mut parts = vec![said(m.count as f64), with_unit(m.rate, "/s")];
        if m.count > 0 {
            let unit = plain(&m.unit);
            parts.push(format!("mean {}", with_unit(m.mean, &unit)));
            parts.extend(
                [("min", m.min), ("max", m.max), ("p95", m.p95)].map(|(word, value)| format!("{word} {}", said(value))),
            );
        }
        let errors = format!("errors {}", said(m.errors as f64));
        parts.push(if m.errors > 0 { paint(Paint::Failed, &errors) } else { errors });
        format!("  {name}{gap}  {}", parts.join("  "))
    };
    let mut all: Vec<String> = measures.iter().take(MOST_LINES).map(line).collect();
    match measures.len().saturating_sub(MOST_LINES) {
        0 => {}
        more => all.push(format!("  … and {more} more measures")),
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_measure_is_a_line() {
        let scan = MeasureNow {
            name: "ticket_scan".into(),
            unit: "ms".into(),
            count: 8120,
            errors: 2,
            rate: 812.2,
            mean: 12.04,
            min: 3.0,
            max: 210.4,
            p95: 40.0,
        };
        let none = MeasureNow { name: "sail".into(), count: 0, errors: 0, rate: 0.0, ..scan.clone() };
        let said = lines(&[MeasureNow { errors: 0, ..scan.clone() }, none]);
        let wanted = [
            "  ticket_scan  8,120  812/s  mean 12 ms  min 3  max 210  p95 40  errors 0",
            "  sail         0  0/s  errors 0",
        ];
        assert_eq!(said, wanted);
        assert!(lines(std::slice::from_ref(&scan))[0].contains("errors 2"));
        let many = vec![scan; 12];
        assert_eq!(lines(&many).last().map(String::as_str), Some("  … and 2 more measures"));
    }
}

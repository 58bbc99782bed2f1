//! Names, messages and output as they may be shown on a terminal: whatever a test says, it cannot move the cursor, change
//! colours, turn the direction of text or fill the screen.

/// A text of a test on one line: control characters and marks that change the direction of text are shown as `·`.
#[must_use]
pub fn plain(text: &str) -> String {
    text.chars().map(|c| if is_unsafe(c) { '·' } else { c }).collect()
}

fn is_unsafe(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{061c}')
}

/// What a test printed: its line ends, tabs and colours stay; other escape sequences and control characters go.
#[must_use]
pub fn output(text: &str, colours: bool) -> String {
    let mut out = String::with_capacity(text.len());
    let mut coloured = false;
    let mut rest = text.chars().peekable();
    while let Some(c) = rest.next() {
        match c {
            '\n' | '\t' => out.push(c),
            // A carriage return before a line end is the line end's; alone it would write over what was shown.
            '\r' => {
                if rest.peek() != Some(&'\n') {
                    out.push('\n');
                }
            }
            '\x1b' => {
                let sequence = escape(&mut rest);
                let is_colour = sequence.strip_prefix('[').and_then(|s| s.strip_suffix('m'));
                let is_colour =
                    is_colour.is_some_and(|s| s.chars().all(|c| c.is_ascii_digit() || c == ';' || c == ':'));
                if is_colour && colours {
                    coloured = true;
                    out.push('\x1b');
                    out.push_str(&sequence);
                }
            }
            c if is_unsafe(c) => out.push('·'),
            c => out.push(c),
        }
    }
    if coloured {
        out.push_str("\x1b[0m");
    }
    out
}

/// Takes the rest of an escape sequence (ECMA-48): `[` with parameters and a final letter, a string up to its end, or one
/// character.
fn escape(rest: &mut std::iter::Peekable<std::str::Chars<'_>>) -> String {
    let mut sequence = String::new();
    let Some(first) = rest.next() else { return sequence };
    sequence.push(first);
    match first {
        '[' => {
            while let Some(c) = rest.next_if(|c| ('\x20'..='\x3f').contains(c)) {
                sequence.push(c);
            }
            sequence.extend(rest.next_if(|c| ('\x40'..='\x7e').contains(c)));
        }
        ']' | 'P' | 'X' | '^' | '_' => {
            // Ends with BEL or ESC \; one that does not end before the line does is no string.
            while let Some(c) = rest.next_if(|c| *c != '\n') {
                if c == '\x07' {
                    break;
                }
                if c == '\x1b' {
                    rest.next_if_eq(&'\\');
                    break;
                }
            }
        }
        _ => {}
    }
    sequence
}

/// A text as one word of a shell's command line: quoted where it needs to be.
pub fn word(text: &str) -> String {
    let bare = |c: char| c.is_ascii_alphanumeric() || "_-./:=@%+,".contains(c);
    if !text.is_empty() && text.chars().all(bare) {
        text.to_owned()
    } else {
        format!("'{}'", plain(text).replace('\'', "'\\''"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_cannot_move_the_cursor_or_turn_the_text() {
        assert_eq!(plain("a\x1b[2Jb\rc\u{202e}d\u{200f}"), "a·[2Jb·c·d·");
        assert_eq!(plain("Ærøskøbing – 12 °C"), "Ærøskøbing – 12 °C");
    }

    #[test]
    fn output_keeps_its_colours_and_nothing_else() {
        let text = "\x1b[31mred\x1b[0m \x1b[2J\x1b[10;5Hmoved \x1b]0;title\x07end\nnext\tcolumn\r\nlast\x08";
        assert_eq!(output(text, true), "\x1b[31mred\x1b[0m moved end\nnext\tcolumn\nlast·\x1b[0m");
        assert_eq!(output(text, false), "red moved end\nnext\tcolumn\nlast·");
    }

    #[test]
    fn a_sequence_that_does_not_end_takes_no_more_than_its_line() {
        assert_eq!(output("a\x1b]0;never ends\nb", true), "a\nb");
        assert_eq!(output("a\x1b", true), "a");
        assert_eq!(output("a\x1b[12", true), "a");
        assert_eq!(output("progress 1\rprogress 2", true), "progress 1\nprogress 2");
    }

    #[test]
    fn names_are_quoted_where_a_shell_would_part_or_change_them() {
        assert_eq!(word("gate/late/refused"), "gate/late/refused");
        assert_eq!(word("gate/two words"), "'gate/two words'");
        assert_eq!(word("it's $HOME"), "'it'\\''s $HOME'");
        assert_eq!(word(""), "''");
    }
}

//! Text of somebody else's as a person may be shown it.

/// Characters that turn the direction of a line around (Unicode Standard Annex 9, table 4): what is shown would read as something else.
#[must_use]
pub fn is_directional(c: char) -> bool {
    matches!(c, '\u{061c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

/// A line of text without anything that would steer a terminal or turn its direction around: control characters (ECMA-48) become spaces.
#[must_use]
pub fn line(text: &str) -> String {
    text.chars().filter(|c| !is_directional(*c)).map(|c| if is_line_end_or_control(c) { ' ' } else { c }).collect()
}

/// As [`line`], of several lines, which stay.
#[must_use]
pub fn lines(text: &str) -> String {
    text.split('\n').map(line).collect::<Vec<_>>().join("\n")
}

/// Control characters, and what some readers take for the end of a line (Unicode Standard, section 5.8).
fn is_line_end_or_control(c: char) -> bool {
    c.is_control() || matches!(c, '\u{2028}' | '\u{2029}')
}

/// So many of a thing: "1 device", "3 devices".
#[must_use]
pub fn counted(count: usize, one: &str) -> String {
    format!("{count} {one}{}", if count == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_steers_a_terminal_or_turns_a_line_around_is_gone() {
        assert_eq!(line("a\x1b[2Jb\u{9b}1mc\u{202e}d\r\ne\u{2028}f"), "a [2Jb 1mcd  e f");
        assert_eq!(lines("a\x07\nb\u{2066}"), "a \nb");
        assert_eq!(line("Åse, 東京"), "Åse, 東京");
    }

    proptest! {
        #[test]
        fn nothing_of_that_kind_is_ever_left(text in any::<String>()) {
            prop_assert!(!line(&text).chars().any(|c| c.is_control() || is_directional(c)));
        }
    }
}

//! Breaking sentences into lines, never inside a path.

use unicode_width::UnicodeWidthStr;

/// Stands for a space that must not be broken at.
const GLUE: char = '\u{1}';

/// Breaks a sentence at spaces, so that each line is at most `width` wide if its words are. Texts
/// in `whole` (paths and commands with spaces in them) are not broken. Every line but the first
/// starts with `indent`.
pub(crate) fn wrap(text: &str, whole: &[String], width: usize, indent: &str) -> String {
    let mut glued = text.to_owned();
    let mut whole: Vec<&String> = whole.iter().filter(|w| w.contains(' ')).collect();
    whole.sort_by_key(|w| std::cmp::Reverse(w.len()));
    for part in whole {
        glued = glued.replace(part.as_str(), &part.replace(' ', &GLUE.to_string()));
    }
    let mut out = String::new();
    let mut at = 0;
    for word in glued.split(' ') {
        let length = word.width() + word.matches(GLUE).count();
        if at > 0 && at + 1 + length > width {
            out.push('\n');
            out.push_str(indent);
            at = 0;
        } else if at > 0 {
            out.push(' ');
            at += 1;
        }
        out.push_str(word);
        at += length;
    }
    out.replace(GLUE, " ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_stay_whole() {
        let path = "/loft/The Salt Orchard (2011)".to_owned();
        let text = format!("nothing can read {path} there");
        let lines = wrap(&text, std::slice::from_ref(&path), 24, "  ");
        assert_eq!(lines, format!("nothing can read\n  {path}\n  there"));
    }
}

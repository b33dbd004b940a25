//! The one recogniser of secrets in text, so that none is stored, shown or rendered. What is
//! doubtful is hidden: a lost word of configuration is dear, a printed password is dearer.
//!
//! It works line by line: a key that names a secret and what follows it, in the ways in which
//! configuration, command lines, URLs and headers write that. `tarvek/src/collector.sh` has a
//! stricter one in the words of awk; the table of this file's tests (`tests/data/secrets.txt`)
//! holds both.

use crate::words::secret_key::HIDDEN;
use crate::words::secret_line::Line;

/// Replaces secrets in some lines of configuration, a command line, a URL or a message. Everything
/// else stays as it is, and hiding again changes nothing.
pub fn hide(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    // What a line may leave open: a key's block that is indented deeper than so many characters, or
    // a private key.
    let mut block: Option<usize> = None;
    let mut armoured = false;
    let mut quoted: Option<&str> = None;
    for line in text.split_inclusive(['\n', '\r']) {
        let content = line.trim_end_matches(['\n', '\r']);
        let end = &line[content.len()..];
        let deep = content.len() - content.trim_start().len();
        if armoured {
            armoured = !content.contains("-----END ");
            if armoured { out.push_str(HIDDEN) } else { out.push_str(content) }
        } else if let Some(mark) = quoted {
            match content.find(mark) {
                Some(at) => {
                    out.push_str(HIDDEN);
                    out.push_str(&content[at..]);
                    quoted = None;
                }
                None => out.push_str(HIDDEN),
            }
        } else if block.is_some_and(|above| deep > above || content.trim().is_empty()) {
            out.push_str(&content[..deep]);
            if deep < content.len() {
                out.push_str(HIDDEN);
            }
        } else {
            block = None;
            armoured = content.contains("-----BEGIN ") && content.contains("PRIVATE KEY-----");
            let found = Line::new(content).secrets();
            block = block.or(found.opens.then_some(deep));
            quoted = found.quoted;
            let mut at = 0;
            for (start, stop) in found.merged() {
                out.push_str(&content[at..start]);
                out.push_str(HIDDEN);
                at = stop;
            }
            out.push_str(&content[at..]);
        }
        out.push_str(end);
    }
    out
}

/// Some bytes without their secrets. They stay as they are if there are none, whatever bytes they
/// are.
pub fn hidden(bytes: Vec<u8>) -> Vec<u8> {
    let text = String::from_utf8_lossy(&bytes);
    let hidden = hide(&text);
    if hidden == text { bytes } else { hidden.into_bytes() }
}

/// Whether a variable is named like one that holds a secret, whatever its value.
pub fn is_secret_name(name: &str) -> bool {
    let text = format!("{name}=f3x9q7z1");
    hide(&text) != text
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A line each: what is written, and how it comes out.
    const TABLE: &str = include_str!("../../tests/data/secrets.txt");

    #[test]
    fn lines_stay_lines() {
        for text in
            ["password:\n  x\n ", "token: |\n\n  x\n\t", "a\r\n\r\nb", "password = \"\"\"\nx\n"]
        {
            assert_eq!(hide(text).lines().count(), text.lines().count(), "{text:?}");
        }
    }

    #[test]
    fn secrets_are_hidden_however_they_are_written() {
        let ends = |text: &str| text.replace("\\r", "\r").replace("\\n", "\n");
        let mut rows = 0;
        let mut wrong = Vec::new();
        for line in TABLE.lines().filter(|line| !line.starts_with('#') && !line.is_empty()) {
            let (text, hidden) = line.split_once(" => ").unwrap_or((line, line));
            let (text, hidden) = (ends(text), ends(hidden));
            let found = hide(&text);
            if found != hidden || found.contains("s3c") || hide(&found) != found {
                wrong.push(format!(
                    "{text}\n  wanted {hidden}\n  found  {found}\n  again  {}",
                    hide(&found)
                ));
            }
            rows += 1;
        }
        assert!(wrong.is_empty(), "{} of {rows}:\n{}", wrong.len(), wrong.join("\n"));
        assert!(rows >= 150, "{rows}");
    }
}

//! The one way to make bytes safe to show, and the one way to find the nearest known name.

/// Shows bytes from a disk as text that cannot move a cursor, hide, or forge a line: control
/// characters, bidirectional and zero-width characters become `\u{…}`, bytes that are no UTF-8
/// become `\xNN`, a backslash doubles.
pub fn shown(bytes: &[u8]) -> String {
    let mut out = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        for c in chunk.valid().chars() {
            match c {
                '\\' => out.push_str("\\\\"),
                '\n' => out.push_str("\\n"),
                '\t' => out.push_str("\\t"),
                '\r' => out.push_str("\\r"),
                c if is_unseen(c) => out.extend(c.escape_unicode()),
                c => out.push(c),
            }
        }
        for byte in chunk.invalid() {
            out.push_str(&format!("\\x{byte:02x}"));
        }
    }
    out
}

/// Whether a character is a control, a bidirectional mark, a zero-width character, or another that
/// a terminal shows as nothing or as something else (Unicode categories Cc, Zl, Zp and the format
/// characters of UAX #9 and UTS #55).
pub fn is_unseen(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{ad}' | '\u{61c}' | '\u{115f}' | '\u{1160}' | '\u{180e}' | '\u{3164}' | '\u{ffa0}'
            | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}'
            | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// The candidate most like `name`, if any is close enough to have been meant.
pub fn nearest<'a>(name: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let wanted = name.to_lowercase();
    candidates
        .into_iter()
        .map(|candidate| {
            let lower = candidate.to_lowercase();
            let alike = strsim::normalized_damerau_levenshtein(&wanted, &lower);
            // "film" for "films", "media" for "media-files": a shared start counts as close.
            let prefix =
                wanted.len() >= 3 && (lower.starts_with(&wanted) || wanted.starts_with(&lower));
            (if prefix { alike.max(0.7) } else { alike }, candidate)
        })
        .filter(|(alike, candidate)| *alike >= 0.6 && *candidate != name)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, candidate)| candidate)
}

/// `1 folder`, `3 folders`: a count with its noun.
pub fn counted(count: u64, noun: &str) -> String {
    let plural = match noun.strip_suffix('y') {
        Some(stem) if !stem.ends_with(['a', 'e', 'o', 'u']) => format!("{stem}ies"),
        _ => format!("{noun}s"),
    };
    format!("{count} {}", if count == 1 { noun } else { &plural })
}

/// A size in IEC units, with one decimal from KiB on (IEC 80000-13).
pub fn bytes(count: u64) -> String {
    const UNITS: [&str; 6] = ["KiB", "MiB", "GiB", "TiB", "PiB", "EiB"];
    if count < 1024 {
        return counted(count, "byte");
    }
    // What would be shown as 1024.0 of a unit is 1.0 of the next.
    let mut value = count as f64 / 1024.0;
    let mut unit = 0;
    while value >= 1023.95 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    format!("{value:.1} {}", UNITS[unit])
}

/// Reads a size: a number and, if it is not bytes, the letter of a binary unit (`500G`, `1.5 TiB`,
/// `131072`). No filesystem counts further than an `off_t`, 2^63 - 1 bytes.
pub fn size(written: &str) -> Option<u64> {
    let written = written.trim();
    let cut = written.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(written.len());
    let number: f64 = written[..cut].parse().ok()?;
    let power = match written[cut..].trim().chars().next() {
        Some(unit) => "BKMGTP".find(unit)?,
        None => 0,
    };
    let bytes = number * 1024f64.powi(power as i32);
    (bytes < 2f64.powi(63)).then_some(bytes as u64)
}

/// A span of seconds in its largest unit: `3 days`, `5 minutes`.
pub fn ago(seconds: i64) -> String {
    let seconds = u64::try_from(seconds).unwrap_or(0);
    match seconds {
        0..120 => counted(seconds, "second"),
        120..7200 => counted(seconds / 60, "minute"),
        7200..172_800 => counted(seconds / 3600, "hour"),
        _ => counted(seconds / 86_400, "day"),
    }
}

/// Quotes a path for a POSIX shell, so that a remedy can be pasted: plain names stay as they are,
/// others are single-quoted, and names with control or non-UTF-8 bytes are given through `printf`
/// with octal escapes.
pub fn shell_quoted(bytes: &[u8]) -> String {
    let plain = |b: &u8| b.is_ascii_alphanumeric() || b"/._-+=:,@%".contains(b);
    if !bytes.is_empty() && bytes.iter().all(plain) {
        return String::from_utf8_lossy(bytes).into_owned();
    }
    match std::str::from_utf8(bytes) {
        Ok(text) if !text.chars().any(is_unseen) => format!("'{}'", text.replace('\'', "'\\''")),
        _ => {
            // Command substitution strips final newlines, so those follow it as they are.
            let end = bytes.iter().rposition(|&b| b != b'\n').map_or(0, |last| last + 1);
            let octal: String = bytes[..end].iter().map(|b| format!("\\{b:03o}")).collect();
            format!("\"$(printf '{octal}'){}\"", "\n".repeat(bytes.len() - end))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_have_units() {
        for (count, text) in [
            (0, "0 bytes"),
            (1, "1 byte"),
            (1023, "1023 bytes"),
            (1024, "1.0 KiB"),
            (1536, "1.5 KiB"),
            (1024 * 1024 - 1, "1.0 MiB"),
            (u64::MAX, "16.0 EiB"),
        ] {
            assert_eq!(bytes(count), text);
        }
        for (text, count) in [
            ("131072", Some(131_072)),
            ("128K", Some(131_072)),
            ("1.5 TiB", Some(3 << 39)),
            ("x", None),
            ("8191P", Some(8191 << 50)),
            ("8192P", None),
            ("99999999999999999999", None),
        ] {
            assert_eq!(size(text), count, "{text}");
        }
    }

    #[test]
    fn nothing_shown_can_move_the_cursor() {
        for (bytes, expected) in [
            (&b"Low Tide Choir"[..], "Low Tide Choir"),
            (b"a\nb", "a\\nb"),
            (b"\x1b[2J", "\\u{1b}[2J"),
            (b"\xff\xfe", "\\xff\\xfe"),
            ("\u{202e}gnp".as_bytes(), "\\u{202e}gnp"),
            ("Ölmühle".as_bytes(), "Ölmühle"),
            (b"a\\nb", "a\\\\nb"),
        ] {
            assert_eq!(shown(bytes), expected);
        }
    }

    #[test]
    fn nearest_finds_what_was_meant_and_nothing_else() {
        let known = ["films", "series", "music"];
        assert_eq!(nearest("film", known), Some("films"));
        assert_eq!(nearest("sereis", known), Some("series"));
        assert_eq!(nearest("Films", known), Some("films"));
        assert_eq!(nearest("photos", known), None);
    }

    #[test]
    #[expect(clippy::disallowed_types, reason = "a shell is asked")]
    fn quoted_paths_survive_a_shell() {
        for name in [&b"plain/path"[..], b"it's", b"a b$c", b"new\nline", b"ends\n\n", b"\xff"] {
            let echoed = std::process::Command::new("sh")
                .arg("-c")
                .arg(format!("printf %s {}", shell_quoted(name)))
                .output()
                .unwrap();
            assert_eq!(echoed.stdout, name);
        }
        assert_eq!(counted(1, "entry"), "1 entry");
        assert_eq!(counted(2, "entry"), "2 entries");
    }
}

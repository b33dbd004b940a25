//! How each format writes what somebody chose. What a format can't say is refused, never left to
//! chance.

use serde_json::Value;
use tarvek_core::words::text::is_unseen;

/// A text as part of a comment: in one line, and a backslash at its end continues none.
pub(super) fn comment(text: &str) -> String {
    let mut line = String::with_capacity(text.len());
    for c in text.chars() {
        if is_unseen(c) { line.extend(c.escape_unicode()) } else { line.push(c) }
    }
    if line.ends_with('\\') {
        line.push('.');
    }
    line
}

/// A path in exports (`exports(5)`): what is not plain stands in quotation marks, as octal digits
/// where it has a meaning of its own. A backslash before three octal digits is lost by the server's
/// own table of exports, however it is written.
pub(super) fn exports_path(path: &str) -> Result<String, &'static str> {
    let digits = |b: &[u8]| b[0] == b'\\' && b[1..].iter().all(|b| matches!(b, b'0'..=b'7'));
    if path.as_bytes().windows(4).any(digits) {
        return Err("an NFS server takes a backslash before three digits for a character");
    }
    let plain = |b: u8| {
        b.is_ascii_alphanumeric()
            || matches!(b, b'/' | b'.' | b'_' | b'-' | b'+' | b'@' | b'%' | b',' | b'=' | b':')
    };
    if path.bytes().all(plain) {
        return Ok(path.to_owned());
    }
    let written = octal(path, |c| matches!(c, ' ' | '"' | '\\' | '#'));
    let written = String::from_utf8(written).expect("the bytes of a character stay together");
    Ok(format!("\"{written}\""))
}

/// Octal digits for the bytes of characters that have a meaning, and of those that are not seen.
fn octal(text: &str, has_meaning: impl Fn(char) -> bool) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len());
    for c in text.chars() {
        let mut bytes = [0; 4];
        let bytes = c.encode_utf8(&mut bytes).as_bytes();
        if has_meaning(c) || is_unseen(c) {
            out.extend(bytes.iter().flat_map(|byte| format!("\\{byte:03o}").into_bytes()));
        } else {
            out.extend_from_slice(bytes);
        }
    }
    out
}

/// A field of fstab (`fstab(5)`, `getmntent(3)`). At the start of a line a number sign would make a
/// comment of it.
pub(super) fn fstab(text: &str) -> String {
    let field = octal(text, |c| matches!(c, ' ' | '\t' | '\\'));
    let field = String::from_utf8(field).expect("the bytes of a character stay together");
    field.strip_prefix('#').map(|rest| format!("\\043{rest}")).unwrap_or(field)
}

const UNSEEN: &str = "it has a character that is not seen, and this format no way to say it";

/// Whether everything of a text is seen.
pub(super) fn seen(text: &str) -> Result<(), &'static str> {
    if text.chars().any(is_unseen) { Err(UNSEEN) } else { Ok(()) }
}

/// A value of smb.conf (`smb.conf(5)`): spaces at its ends and a backslash at its end are kept by
/// quotation marks.
pub(super) fn smb_value(text: &str) -> Result<String, &'static str> {
    let mut after = text.split('%').skip(1).map(|after| after.chars().next());
    if after.any(|next| next.is_some_and(|c| c.is_alphanumeric() || matches!(c, '$' | '(' | '%'))) {
        return Err("an SMB server takes a percent sign for the start of a variable");
    }
    smb_pattern(text)
}

/// The same of a value that may have variables (`%U`).
pub(super) fn smb_pattern(text: &str) -> Result<String, &'static str> {
    seen(text)?;
    if text.contains('"') {
        return Err("smb.conf has no way to say a quotation mark");
    }
    let kept = text.trim() == text && !text.ends_with('\\');
    Ok(if kept { text.to_owned() } else { format!("\"{text}\"") })
}

/// A name in a list of smb.conf: lists part at spaces and commas.
pub(super) fn smb_name(name: &str) -> String {
    let plain = |c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | '-' | '@' | '$' | '\\');
    if name.chars().all(plain) { name.to_owned() } else { format!("\"{name}\"") }
}

/// A value in a unit (`systemd.syntax(7)`, `systemd.unit(5)` on specifiers).
pub(super) fn unit_value(text: &str) -> Result<String, &'static str> {
    seen(text)?;
    if text.ends_with('\\') {
        return Err("a backslash at the end of a unit's line joins it to the next one");
    }
    if text.trim() != text {
        return Err("a unit has no way to say a space at the start or end");
    }
    Ok(text.replace('%', "%%"))
}

/// A path in a unit's list of paths, which parts at spaces and reads quotation marks and
/// backslashes in a way of its own.
pub(super) fn unit_path(path: &str) -> Result<String, &'static str> {
    if path.contains(['"', '\'', '\\']) {
        return Err("a unit has no sure way to say a quotation mark or backslash in a path");
    }
    let path = unit_value(path)?;
    Ok(if path.contains(' ') { format!("\"{path}\"") } else { path })
}

/// One side of a mapping in a unit for Podman (`podman-systemd.unit(5)`, `Volume=`): its parts are
/// parted by colons, and its generator makes a command line of it, in which a dollar sign starts a
/// variable.
pub(super) fn volume_part(path: &str) -> Result<String, &'static str> {
    if path.contains([':', '$', '"', '\'', '\\']) {
        return Err(
            "a unit for Podman has no sure way to say a colon, dollar sign, quotation mark or \
             backslash in a mapping",
        );
    }
    unit_value(path)
}

/// A string of YAML: JSON's, which YAML 1.2 takes as it is, with everything escaped that either
/// takes for a line's end or for nothing.
pub(super) fn yaml(text: &str) -> String {
    let mut out = String::new();
    for c in Value::from(text).to_string().chars() {
        match u32::from(c) {
            _ if !is_unseen(c) => out.push(c),
            code @ 0..=0xffff => out += &format!("\\u{code:04x}"),
            code => out += &format!("\\U{code:08x}"),
        }
    }
    out
}

/// An argument in a command window of Windows.
pub(super) fn windows(text: &str) -> Result<String, &'static str> {
    seen(text)?;
    if text.contains(['"', '%']) {
        return Err("a command window has no sure way to say a quotation mark or percent sign");
    }
    let plain = |c: char| {
        c.is_alphanumeric() || matches!(c, '\\' | '.' | '_' | '-' | '$' | ':' | '/' | '@')
    };
    Ok(if text.chars().all(plain) { text.to_owned() } else { format!("\"{text}\"") })
}

/// A part of a URL (RFC 3986, section 2.3).
pub(super) fn url(text: &str) -> String {
    let mut out = String::new();
    for byte in text.bytes() {
        match byte {
            b if b.is_ascii_alphanumeric() || matches!(b, b'-' | b'.' | b'_' | b'~' | b'$') => {
                out.push(b.into())
            }
            b => out += &format!("%{b:02X}"),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_format_has_its_quoting() {
        for (path, written) in [
            ("/loft/media", "/loft/media"),
            ("/loft/a b", "\"/loft/a\\040b\""),
            ("/loft/#x\"", "\"/loft/\\043x\\042\""),
            ("/loft/a\\n", "\"/loft/a\\134n\""),
            ("/loft/größe", "\"/loft/größe\""),
            ("/loft/\u{202e}", "\"/loft/\\342\\200\\256\""),
        ] {
            assert_eq!(exports_path(path).as_deref(), Ok(written));
        }
        assert!(exports_path("/loft/a\\040").is_err());
        assert_eq!(fstab("#a b\\\u{200b}"), "\\043a\\040b\\134\\342\\200\\213");
        assert!(unit_value("a\u{202e}").is_err() && smb_value("a\u{202e}").is_err());
        assert_eq!(comment("a\nb\u{85}c\\"), "a\\u{a}b\\u{85}c\\.");
        assert_eq!(smb_value("/a b"), Ok("/a b".to_owned()));
        assert_eq!(smb_value("/a "), Ok("\"/a \"".to_owned()));
        assert_eq!(smb_value("/100% x"), Ok("/100% x".to_owned()));
        assert!(smb_value("/a%Ub").is_err() && smb_value("/a\"").is_err());
        assert_eq!(smb_pattern("bin/%U"), Ok("bin/%U".to_owned()));
        assert_eq!(smb_pattern("bin\\"), Ok("\"bin\\\"".to_owned()));
        assert!(smb_pattern("a\nhide = b").is_err() && smb_pattern("a\"").is_err());
        assert_eq!(smb_name("@KESTREL\\domain users"), "\"@KESTREL\\domain users\"");
        assert_eq!(unit_value("a%b"), Ok("a%%b".to_owned()));
        assert!(
            unit_value("a\\").is_err()
                && unit_path("/a'b").is_err()
                && volume_part("/a:b").is_err()
        );
        assert_eq!(unit_path("/a b"), Ok("\"/a b\"".to_owned()));
        assert_eq!(yaml("a\"\u{85}\u{2028}\u{e0001}"), "\"a\\\"\\u0085\\u2028\\U000e0001\"");
        assert_eq!(
            (windows("a&b"), url("Family Photos")),
            (Ok("\"a&b\"".into()), "Family%20Photos".into())
        );
    }
}

//! Octal escapes, as mount tables and fstab write odd characters: `\040` for a space
//! (`getmntent(3)`).

/// Reads `\ooo` escapes; a backslash that starts none stays.
pub fn unescape(text: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some((&byte, after)) = rest.split_first() {
        let octal = match after {
            [a @ b'0'..=b'3', b @ b'0'..=b'7', c @ b'0'..=b'7', ..] if byte == b'\\' => {
                Some((a - b'0') << 6 | (b - b'0') << 3 | (c - b'0'))
            }
            _ => None,
        };
        match octal {
            Some(octal) => {
                out.push(octal);
                rest = &after[3..];
            }
            None => {
                out.push(byte);
                rest = after;
            }
        }
    }
    out
}

/// Reads a name as `getfacl(1)` writes it: as [`unescape`], and a backslash as two.
pub fn unescape_acl(text: &[u8]) -> Vec<u8> {
    let mut parts: Vec<Vec<u8>> = Vec::new();
    let mut rest = text;
    while let Some(at) = rest.windows(2).position(|pair| pair == b"\\\\") {
        parts.push(unescape(&rest[..at]));
        rest = &rest[at + 2..];
    }
    parts.push(unescape(rest));
    parts.join(&b'\\')
}

/// Writes control characters, spaces where asked, and backslashes as `\ooo`.
pub fn escape(bytes: &[u8], spaces: bool) -> Vec<u8> {
    let mut out = Vec::with_capacity(bytes.len());
    for &byte in bytes {
        if byte < b' ' || byte == 0x7f || byte == b'\\' || (spaces && byte == b' ') {
            out.extend_from_slice(format!("\\{byte:03o}").as_bytes());
        } else {
            out.push(byte);
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escapes_come_back() {
        let all: Vec<u8> = (1..=255).collect();
        assert_eq!(unescape(&escape(&all, true)), all);
        assert_eq!(unescape(&escape(&all, false)), all);
        assert_eq!(unescape(b"a\\040b\\9\\"), b"a b\\9\\");
        assert_eq!(unescape_acl(b"a\\\\134\\012\\\\"), b"a\\134\n\\");
    }
}

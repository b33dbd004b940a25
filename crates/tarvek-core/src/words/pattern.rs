//! Patterns of names.

/// Whether a name is one of a pattern: `*` stands for any characters, `?` for one, `[0-9]` for one
/// of a range (`glob(7)`). Both are compared byte by byte.
pub fn matches(pattern: &[u8], name: &[u8]) -> bool {
    // Where the last star was, and how much of the name it stands for.
    let (mut p, mut n, mut star) = (0, 0, None);
    while n < name.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p, n));
                p += 1;
            }
            Some(_) if one(&pattern[p..], name[n]).is_some() => {
                p += one(&pattern[p..], name[n]).unwrap_or(1);
                n += 1;
            }
            _ => match star {
                Some((at, from)) => {
                    star = Some((at, from + 1));
                    (p, n) = (at + 1, from + 1);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|b| *b == b'*')
}

/// How long the part of a pattern is that stands for a byte.
fn one(pattern: &[u8], byte: u8) -> Option<usize> {
    match pattern {
        [b'?', ..] => Some(1),
        [b'[', from, b'-', to, b']', ..] => (*from..=*to).contains(&byte).then_some(5),
        [literal, ..] => (*literal == byte).then_some(1),
        [] => None,
    }
}

#[cfg(test)]
mod tests {
    use super::matches;

    #[test]
    fn stars_and_marks() {
        for (pattern, name, is) in [
            ("*", "", true),
            ("a*b*c", "axxbyyc", true),
            ("a*b*c", "axxbyy", false),
            ("*.r[0-9][0-9]", "x.r07", true),
            ("*.r[0-9][0-9]", "x.rar", false),
            ("?", "", false),
            ("a?", "ab", true),
            ("", "", true),
            ("", "a", false),
        ] {
            assert_eq!(matches(pattern.as_bytes(), name.as_bytes()), is, "{pattern} {name}");
        }
        // It takes no longer than the product of both lengths.
        assert!(!matches("*a*a*a*a*a*a*a*a*b".as_bytes(), "a".repeat(4000).as_bytes()));
    }
}

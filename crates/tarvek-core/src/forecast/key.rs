//! When two titles are the same, however they are written.

use unicode_normalization::UnicodeNormalization;

/// A title in a form that leaves out case, punctuation, and how characters are composed (UAX #15).
/// An article behind a comma comes first again.
pub fn key(title: &str) -> String {
    if title.is_ascii() {
        let (title, article) = article_last(title);
        let mut key = String::with_capacity(title.len() + 4);
        for part in [article, title] {
            let kept = part.bytes().filter(u8::is_ascii_alphanumeric);
            key.extend(kept.map(|byte| char::from(byte.to_ascii_lowercase())));
        }
        return if key.is_empty() { title.trim().to_owned() } else { key };
    }
    let kept = title.nfkc().flat_map(char::to_lowercase).filter(|c| c.is_alphanumeric());
    let key: String = kept.collect();
    if key.is_empty() { title.trim().to_owned() } else { key }
}

/// `Salt Orchard, The`, apart.
fn article_last(title: &str) -> (&str, &str) {
    for article in ["The", "A", "An"] {
        let rest = title.strip_suffix(article).and_then(|rest| rest.trim_end().strip_suffix(','));
        if let Some(rest) = rest {
            return (rest, article);
        }
    }
    (title, "")
}

#[cfg(test)]
mod tests {
    use super::key;

    #[test]
    fn titles_are_the_same_however_they_are_written() {
        for (one, other) in [
            ("The Salt Orchard", "the.salt.orchard"),
            ("Salt Orchard, The", "The Salt Orchard"),
            ("Ölmühle", "O\u{308}lmu\u{308}hle"),
            ("Vey: Harbour", "Vey - Harbour"),
        ] {
            assert_eq!(key(one), key(other));
        }
        assert_ne!(key("Vey 2"), key("Vey"));
        assert_ne!(key("???"), key("!!!"));
    }
}

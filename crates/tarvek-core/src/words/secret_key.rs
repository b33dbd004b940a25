//! Whether the name of a setting says that its value is a secret.

/// What stands in place of a secret.
pub const HIDDEN: &str = "[hidden]";

// Words, parted by spaces.

/// Parts of a key that name a secret.
const WORDS: &str = "password passwd passphrase passcode passwort pass pwd pw psk token secret \
                     secrets apikey bearer otp \
    authorization cookie credential credentials creds cred";

/// A key that ends like this names one too, written together: `PGPASSWORD`, `accesstoken`.
const ENDINGS: &str =
    "password passwd passphrase passcode passwort pass pwd psk token secret apikey";

/// What ends like a secret and is none.
const HARMLESS: &str = "bypass compass surpass overpass underpass trespass";

/// With `key` after them they name a secret: `api_key`, `secretKey`, `ACCESSKEY`.
const KEYS: &str = "api access private secret auth encryption signing master session shared \
                    preshared account app \
    application ssh storage client consumer license hmac crypt luks";

/// With `code` or `pin` after them, or alone at the end, they name what lets somebody in once.
const ADMISSIONS: &str = "claim pairing invite invitation signup up backup registration enrolment enrollment \
                          activation join onboarding";

/// Such a key names where a secret lies, if its value is a path.
const PLACES: &str = "file path dir credential credentials creds cred";

/// What the name of a setting says of its value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Key {
    Plain,
    Secret,
    /// A path as its value is no secret.
    Place,
}

pub(super) fn key(name: &str) -> Key {
    let words = words(name);
    let together = words.concat();
    let is = |word: &String| {
        let ends = |ending: &str| {
            word.ends_with(ending) && !HARMLESS.split(' ').any(|known| word.ends_with(known))
        };
        among(WORDS, word) || ENDINGS.split(' ').any(ends) || word.starts_with("password")
    };
    let pair = |pair: &[String]| pair[1] == "key" && among(KEYS, &pair[0]);
    let admits = |pair: &[String]| among("code pin", &pair[1]) && among(ADMISSIONS, &pair[0]);
    let joined = |word: &String| word.strip_suffix("key").is_some_and(|first| among(KEYS, first));
    let secret = words.iter().any(is)
        || words.windows(2).any(|two| pair(two) || admits(two))
        || words.last().is_some_and(|last| among("claim pairing", last))
        || words.iter().any(joined)
        || is(&together) && words.len() > 1;
    match words.last() {
        _ if !secret => Key::Plain,
        Some(last) if among(PLACES, last) => Key::Place,
        _ => Key::Secret,
    }
}

pub(super) fn among(list: &str, word: &str) -> bool {
    list.split(' ').any(|known| known == word)
}

/// The words of a key in small letters: parted by marks, by a capital after a small letter, and
/// without numbers at their ends.
fn words(name: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    let mut before = ' ';
    for c in name.chars() {
        if !c.is_alphanumeric() {
            before = ' ';
            continue;
        }
        if before == ' ' || before.is_lowercase() && c.is_uppercase() {
            words.push(String::new());
        }
        words.last_mut().expect("one was begun").extend(c.to_lowercase());
        before = c;
    }
    for word in &mut words {
        word.truncate(word.trim_end_matches(|c: char| c.is_ascii_digit()).len());
    }
    words.retain(|word| !word.is_empty());
    words
}

/// Whether the name of a setting says that its value is a secret.
pub(super) fn is_key(name: &str) -> bool {
    !matches!(key(name), Key::Plain)
}

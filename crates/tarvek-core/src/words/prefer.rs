//! Which of several versions to keep.

use std::fmt;

/// What a library prefers: words of the layout, the first one weighs most.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Prefer(pub Vec<Preference>);

/// One preference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Preference {
    /// A codec of the picture, as `ffprobe` writes it.
    Codec(String),
    /// No more lines than this, as long as there is one that has no more.
    AtMost(u32),
    /// The larger file before the higher bit rate.
    Larger,
    /// The smaller file of two with the same picture.
    Smaller,
}

/// Codecs of pictures that a preference may name, and what else they are called.
const CODECS: [(&str, &str); 12] = [
    ("av1", "av1"),
    ("avc", "h264"),
    ("h264", "h264"),
    ("h265", "hevc"),
    ("hevc", "hevc"),
    ("mpeg2", "mpeg2video"),
    ("mpeg2video", "mpeg2video"),
    ("mpeg4", "mpeg4"),
    ("theora", "theora"),
    ("vc1", "vc1"),
    ("vp8", "vp8"),
    ("vp9", "vp9"),
];

/// What may be written, for messages.
pub const WORDS: &str =
    "a codec (hevc, av1, h264, …), at most LINES (at most 1080p), larger, smaller";

impl Preference {
    /// Reads one preference.
    pub fn of(written: &str) -> Option<Self> {
        let lower = written.trim().to_ascii_lowercase();
        if let Some(lines) = lower.strip_prefix("at most ") {
            let lines = lines.trim();
            let lines = lines.strip_suffix('p').unwrap_or(lines).parse().ok()?;
            return (lines > 0).then_some(Self::AtMost(lines));
        }
        match lower.as_str() {
            "larger" => Some(Self::Larger),
            "smaller" => Some(Self::Smaller),
            other => {
                let known = CODECS.iter().find(|(name, _)| *name == other);
                known.map(|(_, codec)| Self::Codec((*codec).to_owned()))
            }
        }
    }
}

impl Prefer {
    /// Reads a list of preferences, set apart by commas.
    ///
    /// # Errors
    /// The first word that means nothing.
    pub fn of(written: &str) -> Result<Self, &str> {
        let words = written.split(',').filter(|word| !word.trim().is_empty());
        words
            .map(|word| Preference::of(word).ok_or(word.trim()))
            .collect::<Result<_, _>>()
            .map(Self)
    }
}

impl fmt::Display for Preference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Codec(codec) => f.write_str(codec),
            Self::AtMost(lines) => write!(f, "at most {lines}p"),
            Self::Larger => f.write_str("larger"),
            Self::Smaller => f.write_str("smaller"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn preferences_are_words() {
        let read = |text: &'static str| {
            Prefer::of(text).map(|prefer| {
                prefer.0.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
            })
        };
        assert_eq!(read("HEVC, at most 1080p"), Ok("hevc, at most 1080p".to_owned()));
        assert_eq!(read("h265,smaller"), Ok("hevc, smaller".to_owned()));
        assert_eq!(read(""), Ok(String::new()));
        assert_eq!(read("best"), Err("best"));
        assert_eq!(read("at most p"), Err("at most p"));
    }
}

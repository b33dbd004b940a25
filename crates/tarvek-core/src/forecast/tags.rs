//! Words of file names that are no part of a title. Tables are sorted; a test holds that.

/// What a word says of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Tag {
    Resolution(&'static str),
    Source(&'static str),
    /// Of the picture.
    Codec(&'static str),
    /// Anything else that no title has: sound, dynamic range, depth of colour.
    Other,
}

/// Words that no title has, as they are written in lower case.
const STRONG: [(&str, Tag); 102] = [
    ("1080i", Tag::Resolution("1080i")),
    ("1080p", Tag::Resolution("1080p")),
    ("10bit", Tag::Other),
    ("1440p", Tag::Resolution("1440p")),
    ("2160p", Tag::Resolution("2160p")),
    ("240p", Tag::Resolution("240p")),
    ("360p", Tag::Resolution("360p")),
    ("4320p", Tag::Resolution("4320p")),
    ("480i", Tag::Resolution("480i")),
    ("480p", Tag::Resolution("480p")),
    ("576i", Tag::Resolution("576i")),
    ("576p", Tag::Resolution("576p")),
    ("720i", Tag::Resolution("720i")),
    ("720p", Tag::Resolution("720p")),
    ("8bit", Tag::Other),
    ("aac", Tag::Other),
    ("aac2", Tag::Other),
    ("ac3", Tag::Other),
    ("atmos", Tag::Other),
    ("av1", Tag::Codec("av1")),
    ("avc", Tag::Codec("h264")),
    ("bd25", Tag::Source("bluray")),
    ("bd50", Tag::Source("bluray")),
    ("bdmv", Tag::Source("bluray")),
    ("bdremux", Tag::Source("remux")),
    ("bdrip", Tag::Source("bluray")),
    ("blu-ray", Tag::Source("bluray")),
    ("bluray", Tag::Source("bluray")),
    ("brrip", Tag::Source("bluray")),
    ("camrip", Tag::Source("cam")),
    ("dd+5", Tag::Other),
    ("dd2", Tag::Other),
    ("dd5", Tag::Other),
    ("ddp", Tag::Other),
    ("ddp2", Tag::Other),
    ("ddp5", Tag::Other),
    ("ddp7", Tag::Other),
    ("divx", Tag::Codec("mpeg4")),
    ("dsr", Tag::Source("tv")),
    ("dsrip", Tag::Source("tv")),
    ("dts", Tag::Other),
    ("dts-es", Tag::Other),
    ("dts-hd", Tag::Other),
    ("dts-x", Tag::Other),
    ("dtshd", Tag::Other),
    ("dtvrip", Tag::Source("tv")),
    ("dvdrip", Tag::Source("dvd")),
    ("dvdscr", Tag::Source("dvd")),
    ("eac3", Tag::Other),
    ("fullhd", Tag::Resolution("1080p")),
    ("h264", Tag::Codec("h264")),
    ("h265", Tag::Codec("hevc")),
    ("h266", Tag::Codec("vvc")),
    ("hd-dvd", Tag::Source("hddvd")),
    ("hddvd", Tag::Source("hddvd")),
    ("hdr", Tag::Other),
    ("hdr10", Tag::Other),
    ("hdr10+", Tag::Other),
    ("hdr10plus", Tag::Other),
    ("hdrip", Tag::Source("web")),
    ("hdtv", Tag::Source("tv")),
    ("hdtvrip", Tag::Source("tv")),
    ("he-aac", Tag::Other),
    ("hevc", Tag::Codec("hevc")),
    ("hi10", Tag::Other),
    ("hi10p", Tag::Other),
    ("mpeg2", Tag::Codec("mpeg2video")),
    ("mpeg4", Tag::Codec("mpeg4")),
    ("pdtv", Tag::Source("tv")),
    ("ppvrip", Tag::Source("tv")),
    ("qhd", Tag::Resolution("1440p")),
    ("remux", Tag::Source("remux")),
    ("satrip", Tag::Source("tv")),
    ("sdtv", Tag::Source("tv")),
    ("telesync", Tag::Source("cam")),
    ("theora", Tag::Codec("theora")),
    ("true-hd", Tag::Other),
    ("truehd", Tag::Other),
    ("tvrip", Tag::Source("tv")),
    ("uhdrip", Tag::Source("bluray")),
    ("vc-1", Tag::Codec("vc1")),
    ("vc1", Tag::Codec("vc1")),
    ("vhsrip", Tag::Source("vhs")),
    ("vodrip", Tag::Source("web")),
    ("vp8", Tag::Codec("vp8")),
    ("vp9", Tag::Codec("vp9")),
    ("vvc", Tag::Codec("vvc")),
    ("web-dl", Tag::Source("web")),
    ("web-dlrip", Tag::Source("web")),
    ("web-rip", Tag::Source("web")),
    ("webdl", Tag::Source("web")),
    ("webdlrip", Tag::Source("web")),
    ("webrip", Tag::Source("web")),
    ("wmv3", Tag::Codec("wmv3")),
    ("x-vid", Tag::Codec("mpeg4")),
    ("x262", Tag::Codec("mpeg2video")),
    ("x264", Tag::Codec("h264")),
    ("x265", Tag::Codec("hevc")),
    ("x266", Tag::Codec("vvc")),
    ("xvid", Tag::Codec("mpeg4")),
    ("yuv420", Tag::Other),
    ("yuv420p10", Tag::Other),
];

/// Words that a title may have, and that say something of the file only behind a year or another
/// tag, or in brackets.
const WEAK: [(&str, Tag); 34] = [
    ("3d", Tag::Other),
    ("4k", Tag::Resolution("2160p")),
    ("8k", Tag::Resolution("4320p")),
    ("bd", Tag::Source("bluray")),
    ("cam", Tag::Source("cam")),
    ("dd", Tag::Other),
    ("dual", Tag::Other),
    ("dubbed", Tag::Other),
    ("dv", Tag::Other),
    ("dvd", Tag::Source("dvd")),
    ("dvd5", Tag::Source("dvd")),
    ("dvd9", Tag::Source("dvd")),
    ("flac", Tag::Other),
    ("hd", Tag::Other),
    ("internal", Tag::Other),
    ("limited", Tag::Other),
    ("lossless", Tag::Other),
    ("mp3", Tag::Other),
    ("multi", Tag::Other),
    ("ntsc", Tag::Other),
    ("opus", Tag::Other),
    ("pal", Tag::Other),
    ("proper", Tag::Other),
    ("repack", Tag::Other),
    ("rerip", Tag::Other),
    ("sd", Tag::Other),
    ("sdr", Tag::Other),
    ("subbed", Tag::Other),
    ("subs", Tag::Other),
    ("ts", Tag::Source("cam")),
    ("tv", Tag::Source("tv")),
    ("uhd", Tag::Resolution("2160p")),
    ("vhs", Tag::Source("vhs")),
    ("web", Tag::Source("web")),
];

/// By length, the characters with which words of a table begin, which stand second, and which stand
/// last: most words of names are none of them, and are told by this alone.
type Beginnings = [[u128; 3]; LONGEST + 1];

const fn beginnings(table: &[(&str, Tag)]) -> Beginnings {
    let mut masks = [[0; 3]; LONGEST + 1];
    let mut n = 0;
    while n < table.len() {
        let word = table[n].0.as_bytes();
        masks[word.len()][0] |= 1 << word[0];
        masks[word.len()][1] |= 1 << word[1];
        masks[word.len()][2] |= 1 << word[word.len() - 1];
        n += 1;
    }
    masks
}

/// The longest word of a table, in bytes.
const LONGEST: usize = 12;
const STRONG_BEGINNINGS: Beginnings = beginnings(&STRONG);
const WEAK_BEGINNINGS: Beginnings = beginnings(&WEAK);

fn in_table(table: &[(&str, Tag)], beginnings: &Beginnings, word: &str) -> Option<Tag> {
    let masks = beginnings.get(word.len())?;
    let bytes = word.as_bytes();
    let has = |mask: u128, byte: u8| byte < 128 && mask >> byte.to_ascii_lowercase() & 1 == 1;
    let (&[first, second, ..], &[.., last]) = (bytes, bytes) else { return None };
    if !has(masks[0], first) || !has(masks[1], second) || !has(masks[2], last) {
        return None;
    }
    let mut lower = [0; LONGEST];
    let lower = &mut lower[..word.len()];
    lower.copy_from_slice(word.as_bytes());
    lower.make_ascii_lowercase();
    let at = table.binary_search_by(|(known, _)| known.as_bytes().cmp(lower)).ok()?;
    Some(table[at].1)
}

/// What stands before the first hyphen of a word.
fn head(word: &str) -> Option<&str> {
    let at = word.bytes().take(LONGEST + 1).position(|byte| byte == b'-')?;
    Some(&word[..at])
}

/// What a word in a name says that no title has; what follows a hyphen, as a group's name does, is
/// not asked.
pub(super) fn strong(word: &str) -> Option<Tag> {
    let table = |word: &str| in_table(&STRONG, &STRONG_BEGINNINGS, word);
    table(word).or_else(|| table(head(word)?)).or_else(|| picture_size(word))
}

/// What a word behind a year or another tag says.
pub(super) fn weak(word: &str) -> Option<Tag> {
    let table = |word: &str| in_table(&WEAK, &WEAK_BEGINNINGS, word);
    strong(word).or_else(|| table(word)).or_else(|| table(head(word)?))
}

/// `1920x1080`.
fn picture_size(word: &str) -> Option<Tag> {
    if !word.starts_with(|c: char| c.is_ascii_digit()) {
        return None;
    }
    let (width, height) = word.split_once(['x', 'X'])?;
    let number = |text: &str| text.len() >= 3 && text.len() <= 5 && text.parse::<u32>().is_ok();
    let size = number(width) && number(height);
    size.then_some(match height {
        "1080" => Tag::Resolution("1080p"),
        "720" => Tag::Resolution("720p"),
        "2160" => Tag::Resolution("2160p"),
        "576" => Tag::Resolution("576p"),
        "480" => Tag::Resolution("480p"),
        _ => Tag::Other,
    })
}

/// Editions by the word that begins them, and whether it needs `cut`, `edition` or `version` behind
/// it.
const EDITIONS: [(&str, &str, bool); 24] = [
    ("alternate", "Alternate", true),
    ("anniversary", "Anniversary", true),
    ("collector's", "Collector's", true),
    ("collectors", "Collector's", true),
    ("definitive", "Definitive", true),
    ("director's", "Director's", true),
    ("directors", "Director's", true),
    ("extended", "Extended", false),
    ("fan", "Fan", true),
    ("festival", "Festival", true),
    ("final", "Final", true),
    ("imax", "IMAX", false),
    ("international", "International", true),
    ("redux", "Redux", false),
    ("remastered", "Remastered", false),
    ("restored", "Restored", false),
    ("rough", "Rough", true),
    ("special", "Special", true),
    ("theatrical", "Theatrical", false),
    ("ultimate", "Ultimate", true),
    ("uncensored", "Uncensored", false),
    ("uncut", "Uncut", false),
    ("unrated", "Unrated", false),
    ("workprint", "Workprint", false),
];

/// The edition that a word begins, with the word behind it, if both make one; and how many words it
/// takes.
pub(super) fn edition(word: &str, next: Option<&str>) -> Option<(String, usize)> {
    if !(3..=13).contains(&word.len()) {
        return None;
    }
    let known = EDITIONS.iter().find(|(known, _, _)| word.eq_ignore_ascii_case(known));
    let (_, name, needs) = known?;
    let version = next.and_then(|next| {
        ["Cut", "Edition", "Version"].into_iter().find(|kind| next.eq_ignore_ascii_case(kind))
    });
    match version {
        Some(version) => Some((format!("{name} {version}"), 2)),
        None if *needs => None,
        None => Some(((*name).to_owned(), 1)),
    }
}

/// The words for a season in folder names, in lower case.
pub(super) const SEASONS: [&str; 22] = [
    "season",
    "series",
    "staffel",
    "saison",
    "temporada",
    "stagione",
    "seizoen",
    "sezon",
    "sezona",
    "säsong",
    "sæson",
    "sesong",
    "kausi",
    "évad",
    "sezonul",
    "сезон",
    "σεζόν",
    "시즌",
    "シーズン",
    "第",
    "بوسم",
    "موسم",
];

/// Folders of what belongs to no season.
pub(super) const SPECIALS: [&str; 8] = [
    "specials",
    "special",
    "spezial",
    "extras season",
    "спецвыпуски",
    "spéciaux",
    "especiales",
    "season 0",
];

/// Folders of a title that hold further material of it.
pub(super) const EXTRAS: [&str; 14] = [
    "extras",
    "extra",
    "featurettes",
    "featurette",
    "trailers",
    "trailer",
    "behind the scenes",
    "deleted scenes",
    "interviews",
    "bonus",
    "sample",
    "samples",
    "scenes",
    "shorts",
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_are_sorted() {
        for table in [&STRONG[..], &WEAK[..]] {
            for pair in table.windows(2) {
                assert!(pair[0].0 < pair[1].0, "{} {}", pair[0].0, pair[1].0);
            }
            assert!(table.iter().all(|(word, _)| word.len() <= LONGEST));
        }
    }

    #[test]
    fn a_word_is_looked_up_whatever_follows_its_hyphen() {
        assert_eq!(strong("X264-KH"), Some(Tag::Codec("h264")));
        assert_eq!(strong("WEB-DL"), Some(Tag::Source("web")));
        assert_eq!(strong("1920x800"), Some(Tag::Other));
        assert_eq!(strong("1x02"), None);
        assert_eq!(strong("Web"), None);
        assert_eq!(weak("Web-KH"), Some(Tag::Source("web")));
        assert_eq!(edition("Directors", Some("cut")), Some(("Director's Cut".to_owned(), 2)));
        assert_eq!(edition("final", Some("orchard")), None);
    }
}

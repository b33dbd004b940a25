//! Numbers in names: years, dates, seasons, episodes, parts.

use super::tokens::{Token, Tokens};

/// More episodes than one file holds.
const MOST_EPISODES: u16 = 200;

/// The day of a broadcast.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Date {
    pub year: u16,
    pub month: u8,
    pub day: u8,
}

impl std::fmt::Display for Date {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{:04}-{:02}-{:02}", self.year, self.month, self.day)
    }
}

pub(super) fn digits(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit())
}

/// A number of at most so many digits.
pub(super) fn number(text: &str, most: usize) -> Option<u16> {
    (digits(text) && text.len() <= most).then(|| text.parse().ok()).flatten()
}

/// The digits that a text begins with, and the rest.
fn leading(text: &str) -> (&str, &str) {
    text.split_at(text.bytes().take_while(u8::is_ascii_digit).count())
}

/// A year that stands alone: moving pictures are no older, and nothing is from the time after next.
pub(super) fn bare_year(text: &str) -> Option<u16> {
    let year = text.split_once('-').map_or(text, |(year, _)| year);
    (year.len() == 4).then(|| number(year, 4)).flatten().filter(|year| (1870..2040).contains(year))
}

/// The year that is all that stands between brackets: `2011`, `2003-2009`, `2003-`; and whether it
/// is several.
pub(super) fn bracketed_year(inside: &str) -> Option<(u16, bool)> {
    let inside = inside.trim();
    let (first, rest) = leading(inside);
    if first.len() != 4 {
        return None;
    }
    let year = number(first, 4).filter(|year| (1400..2100).contains(year))?;
    let rest = rest.trim();
    if rest.is_empty() {
        return Some((year, false));
    }
    let last = rest.strip_prefix(['-', '–'])?.trim();
    (last.is_empty() || number(last, 4).is_some_and(|last| last >= year)).then_some((year, true))
}

fn date(year: &str, month: &str, day: &str) -> Option<Date> {
    if year.len() != 4 || month.len() != 2 || day.len() != 2 {
        return None;
    }
    let (year, month, day) = (bare_year(year)?, number(month, 2)?, number(day, 2)?);
    let days = match month {
        4 | 6 | 9 | 11 => 30,
        2 if year % 4 == 0 && (year % 100 != 0 || year % 400 == 0) => 29,
        2 => 28,
        1..=12 => 31,
        _ => return None,
    };
    (1..=days).contains(&day).then_some(Date { year, month: month as u8, day: day as u8 })
}

/// A date that begins with a word: `2011-03-04`, `2011.03.04`, `2011 03 04`, `20110304`; and how
/// many words it takes.
pub(super) fn date_at(tokens: &Tokens, n: usize) -> Option<(Date, usize)> {
    let text = tokens.text(n).filter(|text| text.starts_with(|c: char| c.is_ascii_digit()))?;
    let apart = |at: usize| text.as_bytes().get(at) == Some(&b'-');
    if text.len() == 10 && text.is_ascii() && apart(4) && apart(7) {
        return Some((date(&text[..4], &text[5..7], &text[8..])?, 1));
    }
    if text.len() == 8 && digits(text) {
        return Some((date(&text[..4], &text[4..6], &text[6..])?, 1));
    }
    Some((date(text, tokens.text(n + 1)?, tokens.text(n + 2)?)?, 3))
}

/// What a name says of an episode.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Numbered {
    pub(super) season: Option<u16>,
    /// In their order, without gaps where a range is meant.
    pub(super) episodes: Vec<u16>,
}

/// Removes a letter that stands in front, whatever its case.
fn after<'a>(text: &'a str, prefix: &str) -> Option<&'a str> {
    let head = text.get(..prefix.len())?;
    head.eq_ignore_ascii_case(prefix).then(|| &text[prefix.len()..])
}

/// Adds what follows the first episode: `E03`, `-E04`, `-04`, `x03`, `+E03`, `&03`. The rest, if
/// all of it was understood.
fn further<'a>(mut rest: &'a str, between: &[&str], episodes: &mut Vec<u16>) -> Option<&'a str> {
    loop {
        let (range, tail) = match rest.strip_prefix(['-', '~']) {
            Some(tail) => (true, tail),
            None => (false, rest.strip_prefix(['+', '&']).unwrap_or(rest)),
        };
        let named = between.iter().find_map(|word| after(tail, word));
        let joined = tail.len() < rest.len();
        let Some(numbers) = named.or(joined.then_some(tail)) else { return Some(rest) };
        let (number, behind) = leading(numbers);
        // `S01E02-720p` is no range, and neither is `S01E02-4ever`.
        let plain = behind.is_empty() || !behind.starts_with(|c: char| c.is_alphabetic());
        let counts = |rest: &str| rest.starts_with(|c: char| c.is_ascii_digit());
        let continues = between.iter().any(|word| after(behind, word).is_some_and(counts));
        if number.is_empty() || number.len() > 4 || (named.is_none() && !plain && !continues) {
            return (joined || named.is_none()).then_some(rest);
        }
        let next: u16 = number.parse().ok()?;
        let last = episodes.last().copied().unwrap_or(next);
        if range && next > last && next - last <= MOST_EPISODES {
            episodes.extend(last + 1..=next);
        } else if !episodes.contains(&next) && episodes.len() < usize::from(MOST_EPISODES) {
            episodes.push(next);
        }
        rest = behind;
    }
}

/// What may follow the number of an episode in the same word: nothing, a group behind a hyphen, a
/// version, a half.
fn ends_well(rest: &str) -> bool {
    let version = || after(rest, "v").is_some_and(|version| digits(leading(version).0));
    let half = || matches!(rest, "a" | "b" | "c" | "A" | "B" | "C");
    rest.is_empty() || rest.starts_with(['-', ':', ')', '\'']) || version() || half()
}

/// `S01E02` and the like that a word is or begins with, and how many words it takes.
fn marked(tokens: &Tokens, n: usize) -> Option<(Numbered, usize)> {
    let text = tokens.text(n)?;
    let (season, rest) = leading(after(text, "s")?);
    if season.is_empty() || season.len() > 4 {
        return None;
    }
    let season = season.parse().ok()?;
    let episode = |text: &str| after(text, "ep").or_else(|| after(text, "e")).map(str::len);
    let (text, taken) = if rest.is_empty() {
        let next = tokens.text(n + 1)?;
        (&next[next.len() - episode(next)?..], 2)
    } else {
        (&rest[rest.len() - episode(rest.strip_prefix('-').unwrap_or(rest))?..], 1)
    };
    let (first, rest) = leading(text);
    if first.is_empty() || first.len() > 4 {
        return None;
    }
    let mut episodes = vec![first.parse().ok()?];
    let rest = further(rest, &["ep", "e"], &mut episodes)?;
    let more = joined_by_words(tokens, n + taken, &mut episodes).filter(|_| rest.is_empty());
    let numbered = Numbered { season: Some(season), episodes };
    ends_well(rest).then_some((numbered, taken + more.unwrap_or(0)))
}

/// `- E04` and `E04` in words of their own, behind an episode; how many words they take.
fn joined_by_words(tokens: &Tokens, n: usize, episodes: &mut Vec<u16>) -> Option<usize> {
    let mut taken = 0;
    while let Some(token) = tokens.words.get(n + taken) {
        let Some(number) = after(token.text, "e").and_then(|rest| number(rest, 4)) else { break };
        let last = episodes.last().copied().unwrap_or(number);
        if token.dash && number > last && number - last <= MOST_EPISODES {
            episodes.extend(last + 1..=number);
        } else if !episodes.contains(&number) {
            episodes.push(number);
        }
        taken += 1;
    }
    Some(taken)
}

/// `1x02`.
fn crossed(text: &str) -> Option<Numbered> {
    let (season, rest) = leading(text);
    let (first, rest) = leading(after(rest, "x")?);
    if season.is_empty() || season.len() > 2 || !(2..=3).contains(&first.len()) {
        return None;
    }
    let mut episodes = vec![first.parse().ok()?];
    // Behind a hyphen the season may be said again.
    let again = format!("{season}x");
    let rest = further(rest, &["x", &again], &mut episodes)?;
    let numbered = Numbered { season: season.parse().ok(), episodes };
    ends_well(rest).then_some(numbered)
}

/// `Season 1 Episode 2`.
fn in_words(tokens: &Tokens, n: usize) -> Option<(Numbered, usize)> {
    if !tokens.text(n)?.eq_ignore_ascii_case("season") {
        return None;
    }
    let season = number(tokens.text(n + 1)?, 4)?;
    let word = tokens.text(n + 2)?;
    if !["episode", "ep"].iter().any(|known| word.eq_ignore_ascii_case(known)) {
        return None;
    }
    let episode = number(tokens.text(n + 3)?, 4)?;
    Some((Numbered { season: Some(season), episodes: vec![episode] }, 4))
}

/// Season and episodes that a word begins, as nothing but an episode is written; and how many words
/// they take.
pub(super) fn episode_at(tokens: &Tokens, n: usize) -> Option<(Numbered, usize)> {
    let text = tokens.text(n)?;
    match text.as_bytes().first()? {
        b's' | b'S' => marked(tokens, n).or_else(|| in_words(tokens, n)),
        b'0'..=b'9' => Some((crossed(text)?, 1)),
        _ => None,
    }
}

/// The episodes that a word says where one knows that it is one: `E02`, `Ep. 2`, `Episode 2`,
/// `2of6`, `#2`; and how many words.
pub(super) fn said_episode(tokens: &Tokens, n: usize) -> Option<(Vec<u16>, usize)> {
    let text = tokens.text(n)?;
    let words = ["episode", "ep", "e", "folge", "épisode", "episodio", "серия", "№", "#"];
    for word in words {
        let is = |head: &str| match word.is_ascii() {
            true => head.eq_ignore_ascii_case(word),
            false => !head.is_ascii() && head.to_lowercase() == word,
        };
        let rest = match text.get(..word.len()) {
            Some(head) if is(head) => &text[word.len()..],
            _ => continue,
        };
        if rest.is_empty() && word != "e" {
            return Some((vec![number(tokens.text(n + 1)?, 4)?], 2));
        }
        let (first, rest) = leading(rest);
        if !first.is_empty() && first.len() <= 4 {
            let mut episodes = vec![first.parse().ok()?];
            let rest = further(rest, &["ep", "e"], &mut episodes)?;
            return ends_well(rest).then_some((episodes, 1));
        }
    }
    let (first, rest) = leading(text);
    let of = |rest: &str| after(rest, "of").is_some_and(|all| number(all, 3).is_some());
    if !first.is_empty() && first.len() <= 3 && of(rest) {
        return Some((vec![first.parse().ok()?], 1));
    }
    let alone = rest.is_empty() && first.len() <= 3;
    let follows = tokens.text(n + 1).is_some_and(|word| word.eq_ignore_ascii_case("of"));
    if alone && follows && number(tokens.text(n + 2)?, 3).is_some() {
        return Some((vec![number(first, 3)?], 3));
    }
    None
}

/// A number that stands alone, as `02` does in `02 - Title` and `Show - 045v2`; ranges as in
/// `02-03`.
pub(super) fn plain_episode(token: &Token) -> Option<Vec<u16>> {
    let (first, rest) = leading(token.text);
    if first.is_empty() || first.len() > 4 || first.len() == 4 && bare_year(first).is_some() {
        return None;
    }
    let mut episodes = vec![first.parse().ok()?];
    let rest = further(rest, &[], &mut episodes)?;
    let version = after(rest, "v").is_some_and(digits);
    (rest.is_empty() || version).then_some(episodes)
}

/// `CD1`, `disc 2`, `part1`: which part of one film a file is, and how many words say so.
pub(super) fn part_at(tokens: &Tokens, n: usize) -> Option<(u16, usize)> {
    let text = tokens.text(n)?;
    if !text.starts_with(['c', 'C', 'd', 'D', 'p', 'P']) {
        return None;
    }
    for word in ["cd", "disc", "disk", "dvd", "part", "pt"] {
        let Some(rest) = after(text, word) else { continue };
        if rest.is_empty() {
            return Some((part_number(tokens.text(n + 1)?)?, 2));
        }
        if let Some(part) = number(rest, 2).filter(|part| *part > 0) {
            return Some((part, 1));
        }
    }
    None
}

fn part_number(text: &str) -> Option<u16> {
    let letter = || match text {
        "A" | "a" => Some(1),
        "B" | "b" => Some(2),
        _ => None,
    };
    number(text, 2).filter(|part| *part > 0).or_else(letter)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn episode(text: &str) -> Option<(Option<u16>, Vec<u16>, usize)> {
        let (numbered, words) = episode_at(&Tokens::of(text), 0)?;
        Some((numbered.season, numbered.episodes, words))
    }

    #[test]
    fn episodes_in_every_usual_form() {
        for (text, season, episodes, words) in [
            ("S01E02", 1, vec![2], 1),
            ("s1e2", 1, vec![2], 1),
            ("S01E02E03", 1, vec![2, 3], 1),
            ("S01E02-E04", 1, vec![2, 3, 4], 1),
            ("S01E02-04", 1, vec![2, 3, 4], 1),
            ("S01E02-KH", 1, vec![2], 1),
            ("S01E02-4ever", 1, vec![2], 1),
            ("S01E02-720p", 1, vec![2], 1),
            ("S01E02v2", 1, vec![2], 1),
            ("S01E02a", 1, vec![2], 1),
            ("S01 E02", 1, vec![2], 2),
            ("S01.E02.E03", 1, vec![2, 3], 3),
            ("S01E02 - E04", 1, vec![2, 3, 4], 2),
            ("S2011E02", 2011, vec![2], 1),
            ("S00E01", 0, vec![1], 1),
            ("1x02", 1, vec![2], 1),
            ("01x02x03", 1, vec![2, 3], 1),
            ("1x02-03", 1, vec![2, 3], 1),
            ("1x02-1x04", 1, vec![2, 3, 4], 1),
            ("Season 1 Episode 2", 1, vec![2], 4),
            ("S01Ep02", 1, vec![2], 1),
            ("S01EP02-EP03", 1, vec![2, 3], 1),
            ("S1E100", 1, vec![100], 1),
        ] {
            assert_eq!(episode(text), Some((Some(season), episodes, words)), "{text}");
        }
        for text in ["S01", "1920x1080", "16x9", "Salt", "S01E", "2x4", "Sx", "1x", "S01E02extra"] {
            assert_eq!(episode(text), None, "{text}");
        }
    }

    #[test]
    fn dates_are_days_that_there_are() {
        let date = |text: &str| date_at(&Tokens::of(text), 0).map(|(date, _)| date.to_string());
        assert_eq!(date("2011-03-04").as_deref(), Some("2011-03-04"));
        assert_eq!(date("2011.03.04").as_deref(), Some("2011-03-04"));
        assert_eq!(date("20120229").as_deref(), Some("2012-02-29"));
        for text in ["2011-02-29", "2011-13-01", "2011-3-4", "20111301", "1080-03-04", "2011.03"] {
            assert_eq!(date(text), None, "{text}");
        }
    }
}

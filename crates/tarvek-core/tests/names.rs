//! Names that people give their files, and what they mean: a table of our own making, and names
//! made of parts.

use proptest::prelude::*;
use tarvek_core::forecast::filed::Shelf;
use tarvek_core::forecast::reading::{read, split_ending};
use tarvek_core::words::terms::Kind;
use tarvek_core::words::word::Word;

/// What a path below a library's root is read as, as the table writes it.
fn told(kind: Kind, path: &str) -> String {
    let mut folders: Vec<String> = path.split('/').map(str::to_owned).collect();
    let name = folders.pop().expect("a path has a name");
    let Ok(filed) = Shelf::new(kind, folders).file(&name, true) else { return "-".to_owned() };
    let number = |number: Option<u16>| number.map(|n| n.to_string()).unwrap_or_default();
    let episodes: Vec<String> = filed.episodes.iter().map(u16::to_string).collect();
    let date = filed.date.map(|date| date.to_string()).unwrap_or_default();
    let fields = [
        filed.title,
        filed.by.unwrap_or_default(),
        number(filed.year),
        number(filed.season),
        episodes.join(","),
        date,
    ];
    fields.join("\t").trim_end_matches('\t').to_owned()
}

#[test]
fn names_mean_what_the_table_says() {
    let table = include_str!("data/names.tsv");
    let rows = table.lines().filter(|line| !line.starts_with('#'));
    let mut wrong = Vec::new();
    let mut count = 0;
    for row in rows {
        count += 1;
        let mut fields = row.splitn(3, '\t');
        let mut next = || fields.next().unwrap_or_else(|| panic!("{row:?}"));
        let (kind, path) = (Kind::named(next()).expect("a kind"), next());
        let is = next().trim_end_matches('\t');
        let told = told(kind, path);
        if told != is {
            wrong.push(format!("{} {path}\n  is   {is:?}\n  told {told:?}", kind.word()));
        }
    }
    assert!(count >= 1500, "{count} rows");
    assert!(wrong.is_empty(), "{} of {count}:\n{}", wrong.len(), wrong.join("\n"));
}

/// Words that are no tag, no number and lead on to none.
fn title() -> impl Strategy<Value = String> {
    let word = prop_oneof![
        "[A-Z][a-z]{2,8}",
        "[А-Я][а-я]{2,8}",
        "[ぁ-ん]{2,6}",
        "[A-Z][a-zäöüéñ]{2,8}",
        Just("2091".to_owned()),
        Just("39".to_owned()),
        Just("1947".to_owned()),
    ];
    let last = "[A-Z][a-z]{1,3}y[aou][a-z]{1,3}";
    // `Ddp` is a word that no title has, wherever in it.
    let word = word.prop_filter("a tag", |word| {
        let titles = [format!("{word} Vey"), format!("Aaa {word} Vey")];
        titles.iter().all(|title| read(title).title == *title)
    });
    (proptest::collection::vec(word, 0..4), last).prop_map(|(mut words, last)| {
        words.push(last);
        words.join(" ")
    })
}

const TAGS: &[&str] = &[
    "",
    "1080p",
    "720p.WEB-DL.x264-KH",
    "BluRay",
    "DVDRip.XviD",
    "2160p.UHD.BluRay.x265.10bit.HDR-KH",
];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn a_title_and_a_year_come_back_from_every_usual_form(
        title in title(),
        year in 1900_u16..2030,
        tags in proptest::sample::select(TAGS),
    ) {
        let dotted = title.replace(' ', ".");
        let behind = if tags.is_empty() { String::new() } else { format!(".{tags}") };
        let spaced = if tags.is_empty() { String::new() } else { format!(" \
            {}", tags.replace('.', " ")) };
        let bracketed = if tags.is_empty() { String::new() } else { format!(" [{tags}]") };
        for stem in [
            format!("{title} ({year})"),
            format!("{title} [{year}]"),
            format!("{title} ({year}){bracketed}"),
            format!("{title} ({year}){spaced}"),
            format!("{title} {year}{spaced}"),
            format!("{dotted}.{year}{behind}"),
            format!("{dotted}.({year}){behind}"),
            format!("{}_{year}{}", title.replace(' ', "_"), behind.replace('.', "_")),
            format!("[KH] {title} ({year}){bracketed}"),
        ] {
            let reading = read(&stem);
            prop_assert_eq!((reading.title.as_str(), reading.year), (title.as_str(), Some(year)), "{}", stem);
        }
    }

    #[test]
    fn an_episode_comes_back_from_every_usual_form(
        title in title(),
        season in 0_u16..100,
        episode in 0_u16..100,
        more in 0_u16..4,
        tags in proptest::sample::select(TAGS),
    ) {
        let dotted = title.replace(' ', ".");
        let behind = if tags.is_empty() { String::new() } else { format!(".{tags}") };
        let all: Vec<u16> = (episode..=episode + more).collect();
        let list: String = all.iter().map(|n| format!("E{n:02}")).collect();
        let last = episode + more;
        let range = if more == 0 { String::new() } else { format!("-E{last:02}") };
        let crossed = if more == 0 { String::new() } else { format!("-{last:02}") };
        for stem in [
            format!("{title} S{season:02}{list}"),
            format!("{title} - S{season:02}E{episode:02}{range} - Words"),
            format!("{dotted}.S{season:02}{list}{behind}"),
            format!("{dotted}.s{season}e{episode:02}{}{behind}", range.to_lowercase()),
            format!("{title} {season}x{episode:02}{crossed}"),
        ] {
            let reading = read(&stem);
            prop_assert_eq!(
                (reading.title.as_str(), reading.season, &reading.episodes),
                (title.as_str(), Some(season), &all),
                "{}", stem
            );
        }
    }

    #[test]
    fn no_name_is_too_odd(
        folders in proptest::collection::vec(".{0,40}", 0..4),
        name in "[-A-Za-z0-9 ._()\\[\\]{}（】xXsSeE+&~#äß第季]{1,80}",
        odd in ".{1,60}",
    ) {
        for kind in Kind::ALL {
            let shelf = Shelf::new(*kind, folders.clone());
            for name in [&name, &odd] {
                for alone in [true, false] {
                    if let Ok(filed) = shelf.file(name, alone) {
                        prop_assert!(!filed.title.is_empty());
                        prop_assert!(filed.episodes.len() <= 201);
                    }
                }
                shelf.agrees(name);
                let (stem, ending) = split_ending(name);
                prop_assert!(stem.len() + ending.len() <= name.len());
            }
        }
    }
}

/// The longest names are read in about as many steps per byte as short ones: many of them in less
/// time than anybody notices.
#[test]
fn long_names_of_every_sort_are_read() {
    for piece in [
        "(", "[a", "S01E02", "-E02", "1x02", "2011 ", "(2011)", "a.", "- ", "E1", "🎬", "e+",
        "x264.",
    ] {
        let name = piece.repeat(200_000 / piece.len());
        let reading = read(&name);
        assert!(reading.title.len() <= name.len());
    }
}

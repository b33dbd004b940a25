//! Libraries as people have them: titles with all that lies beside them.

use std::fmt::Write as _;

/// The shapes, with the kind of each.
pub(crate) const SHAPES: &[(&str, &str)] = &[
    ("film folders", "films"),
    ("loose films", "films"),
    ("seasons", "series"),
    ("albums", "music"),
    ("photos by date", "photos"),
    ("books", "books"),
];

/// A listing of a library of a shape at `/loft` with at least so many entries.
pub(crate) fn listing(shape: &str, entries: usize) -> String {
    let mut tree = Tree::default();
    tree.folder("");
    for title in 0.. {
        if tree.entries >= entries {
            break;
        }
        tree.title(shape, title);
    }
    format!(
        "tarvek-listing 1\nhost granary\ntaken 1795305600\nsection mountinfo\n|36 35 98:0 / / rw - \
         ext4 /dev/sda1 rw\nend mountinfo\n\
         section roots\n|deep /loft\nend roots\nsection tree type mode uid gid size allocated \
         inode links mtime device path\n\
         |d 0755 0 0 6 0 2 3 1 - /\n{}end tree\nsection gaps\nend gaps\ncomplete\n",
        tree.text
    )
}

#[derive(Default)]
struct Tree {
    text: String,
    entries: usize,
}

impl Tree {
    fn folder(&mut self, path: &str) {
        self.entries += 1;
        let _ = writeln!(self.text, "|d 0755 0 0 6 0 {} 3 1 - /loft{path}", self.entries + 10);
    }

    fn file(&mut self, size: usize, path: &str) {
        self.entries += 1;
        let inode = self.entries + 10;
        let _ = writeln!(self.text, "|f 0644 0 0 {size} {size} {inode} 1 1 - /loft{path}");
    }

    fn title(&mut self, shape: &str, n: usize) {
        let year = 1950 + n % 70;
        let film = format!("The Orchard of {n} Gates ({year})");
        // Sizes that are all different, and such as many have.
        let (large, small) = (700_000_000 + n * 7, 4096 + n % 50);
        match shape {
            "film folders" | "loose films" => {
                let folder = match shape {
                    "film folders" => {
                        self.folder(&format!("/{film}"));
                        format!("/{film}")
                    }
                    _ => String::new(),
                };
                self.file(large, &format!("{folder}/{film}.mkv"));
                self.file(small, &format!("{folder}/{film}.en.srt"));
                self.file(small * 40, &format!("{folder}/{film}-poster.jpg"));
                self.file(small, &format!("{folder}/{film}.nfo"));
            }
            "seasons" => {
                let show = format!("/Ferry {n}");
                self.folder(&show);
                for season in 1..=2 {
                    let folder = format!("{show}/Season {season:02}");
                    self.folder(&folder);
                    for episode in 1..=8 {
                        let name = format!("{folder}/Ferry {n} S{season:02}E{episode:02}");
                        self.file(large + episode, &format!("{name}.mkv"));
                        self.file(small, &format!("{name}.en.srt"));
                        self.file(small * 9, &format!("{name}-thumb.jpg"));
                    }
                }
            }
            "albums" => {
                let folder = format!("/Low Tide Choir {}/Ebb {n} ({year})", n / 3);
                if n.is_multiple_of(3) {
                    self.folder(&format!("/Low Tide Choir {}", n / 3));
                }
                self.folder(&folder);
                for track in 1..=10 {
                    self.file(
                        9_000_000 + n * 13 + track,
                        &format!("{folder}/{track:02} Song.flac"),
                    );
                }
                self.file(small * 20, &format!("{folder}/cover.jpg"));
            }
            "photos by date" => {
                let folder = format!("/{}-{:02}-{:02} {n}", year, 1 + n % 12, 1 + n % 28);
                self.folder(&folder);
                for photo in 1..=20 {
                    self.file(5_000_000 + n * 17 + photo, &format!("{folder}/IMG_{photo:04}.jpg"));
                    self.file(small, &format!("{folder}/IMG_{photo:04}.xmp"));
                }
            }
            _ => {
                let folder = format!("/Oskar {}/The Book of {n}", n / 4);
                if n.is_multiple_of(4) {
                    self.folder(&format!("/Oskar {}", n / 4));
                }
                self.folder(&folder);
                self.file(900_000 + n * 3, &format!("{folder}/The Book of {n}.epub"));
                self.file(small * 10, &format!("{folder}/cover.jpg"));
                self.file(small, &format!("{folder}/metadata.opf"));
            }
        }
    }
}

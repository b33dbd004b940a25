//! Listings: the collected text of a host where Tarvek can't run. `docs/listing.md` describes the
//! format.
//!
//! ```text
//! tarvek-listing 1
//! host granary
//! taken 1795305600
//! section mountinfo
//! |36 35 98:0 / / rw shared:1 - ext4 /dev/sda1 rw
//! end mountinfo
//! section roots
//! |deep /loft/media
//! end roots
//! section tree type mode uid gid size allocated inode links mtime device path
//! |d 0755 0 0 6 0 34 3 1795300000 - /loft
//! |d 2775 0 2100 4 0 34 3 1795300000.5 - /loft/media
//! end tree
//! complete
//! ```

mod columns;
mod split;
mod unread;

pub use self::unread::Unread;
use self::unread::{AGAIN, FIRST_LINE, LONGEST_PATH};

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::io::Read;

use tarvek_core::facts::build::{NewEntry, TreeBuilder};
use tarvek_core::facts::classes::Extras;
use tarvek_core::facts::host::{Document, Gap, HostFacts, Root, Source};
use tarvek_core::facts::mounts::MountTable;
use tarvek_core::facts::tree::{Listing, Tree};
use tarvek_core::kernel::acl::{Acl, AclEntry};
use tarvek_core::kernel::entry::{EntryKind, Flags, Meta, Project};
use tarvek_core::kernel::nfs4::Nfs4Acl;
use tarvek_core::words::file_name;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::shown;

use self::columns::Columns;
use self::split::{Line, Sections};
use crate::escape::{escape, unescape, unescape_acl};
use crate::guard::guarded;
use crate::mistake::{Refused, in_line};
use crate::{accounts, acl, fstab, host_report, mountinfo};

/// What begins the line below a symlink's own, with its target.
const TARGET: &[u8] = b"> ";

/// Reads a listing that is there as a whole.
///
/// # Errors
/// The first mistake.
pub fn read(file: &str, bytes: &[u8]) -> Result<HostFacts, Refused> {
    match read_from(file, bytes, u64::MAX) {
        Ok(facts) => Ok(facts),
        Err(Unread::Refused(refused)) => Err(*refused),
        Err(Unread::Broken(_) | Unread::TooLong(_)) => unreachable!("bytes do not break off"),
    }
}

/// Reads a listing from wherever it comes. What is none is refused at its first wrong line, however
/// long it is.
///
/// # Errors
/// As [`Unread`] tells.
pub fn read_from(file: &str, source: impl Read, most: u64) -> Result<HostFacts, Unread> {
    guarded(|| {
        let sections = Sections::split(file, source, most)?;
        Ok(facts(Reader { file, sections })?)
    })
    .unwrap_or_else(|panicked| Err(Refused::by_a_fault(file, &panicked.message).into()))
}

fn facts(reader: Reader) -> Result<HostFacts, Refused> {
    let name = reader.header("host")?;
    let taken = reader.header("taken")?;
    let line = reader.sections.headers.get("taken").map_or(1, |(line, _)| *line);
    let no_number = |_| {
        let text = format!("taken {taken}");
        reader.refuse(line, 7, text.as_bytes(), "taken is no number of seconds".into())
    };
    let taken = taken.parse().map_err(no_number)?;
    let header = |key: &str| reader.sections.headers.get(key).map(|(_, value)| value.as_str());
    let taken_by = header("uid").and_then(|uid| uid.parse().ok());
    let kernel = header("kernel").map(Into::into);
    let mounts = reader.mounts()?;
    let (accounts, groups) = accounts::read(&reader.joined("passwd"), &reader.joined("group"));
    let fstab = fstab::read(&reader.joined("fstab"));
    let gaps = reader.gaps()?;
    let roots = reader.roots()?;
    let tree = reader.tree(&roots, &gaps)?;
    let documents = reader.documents();
    let told = host_report::read(&documents, mounts.as_ref());
    Ok(HostFacts {
        name: name.into(),
        source: Source::File(reader.file.to_owned()),
        taken,
        taken_by,
        kernel,
        mounts,
        fstab,
        accounts,
        groups,
        told,
        documents,
        roots: roots.all(),
        complete: true,
        tree,
        digests: HashMap::new(),
        media: HashMap::new(),
        gaps,
    })
}

struct Reader<'a> {
    file: &'a str,
    sections: Sections,
}

impl Reader<'_> {
    fn refuse(&self, line: usize, column: usize, text: &[u8], message: String) -> Refused {
        in_line(self.file, line, column, text, message, AGAIN)
    }

    fn header(&self, key: &str) -> Result<String, Refused> {
        let value = self.sections.headers.get(key).map(|(_, value)| value);
        value.filter(|value| !value.is_empty()).cloned().ok_or_else(|| {
            self.refuse(1, 1, FIRST_LINE.as_bytes(), format!("the listing has no line {key:?}"))
        })
    }

    fn lines(&self, name: &str) -> impl Iterator<Item = Line<'_>> {
        self.sections.lines(name)
    }

    /// A file of the host, as it was.
    fn joined(&self, name: &str) -> Vec<u8> {
        let mut text = Vec::new();
        for (_, line) in self.lines(name) {
            text.extend_from_slice(&line);
            text.push(b'\n');
        }
        text
    }

    fn mounts(&self) -> Result<Option<MountTable>, Refused> {
        let Some(section) = self.sections.sections.get("mountinfo") else { return Ok(None) };
        let table = mountinfo::read(&self.joined("mountinfo")).map_err(|(n, message)| {
            let at = (n <= section.len()).then(|| section.line(n - 1));
            let (line, text) = at.unwrap_or((section.start, Cow::Borrowed(b"")));
            self.refuse(line, 2, &text, message)
        })?;
        Ok(Some(table))
    }

    /// Everything that is kept as text. `reader.tree` and the like have read the rest.
    fn documents(&self) -> Vec<Document> {
        let read = [
            "mountinfo",
            "fstab",
            "passwd",
            "group",
            "roots",
            "tree",
            "gaps",
            "acl",
            "nfs4acl",
            "marks",
        ];
        let mut names: Vec<&String> =
            self.sections.sections.keys().filter(|name| !read.contains(&name.as_str())).collect();
        names.sort();
        names.into_iter().map(|name| Document::new(name.as_str(), &self.joined(name))).collect()
    }

    /// The ACLs of the section `acl`, which is the output of `getfacl -n -p`.
    fn acls(&self) -> Result<HashMap<AbsPath, Extras>, Refused> {
        let mut all: HashMap<AbsPath, Extras> = HashMap::new();
        let mut path: Option<AbsPath> = None;
        let (mut access, mut default) = (Vec::new(), Vec::new());
        let mut keep =
            |path: Option<AbsPath>, access: &mut Vec<AclEntry>, default: &mut Vec<AclEntry>| {
                let (access, default) = (std::mem::take(access), std::mem::take(default));
                let Some(path) = path else { return };
                // Three entries say what the mode says.
                let acl = (access.len() > 3).then(|| Acl::new(access));
                let default_acl = (!default.is_empty()).then(|| Acl::new(default));
                if acl.is_some() || default_acl.is_some() {
                    all.insert(path, Extras { acl, default_acl, ..Extras::default() });
                }
            };
        for line in self.lines("acl") {
            if let Some(written) = line.1.strip_prefix(b"# file: ") {
                keep(path.take(), &mut access, &mut default);
                let written = escape(&unescape_acl(written), false);
                path = Some(self.path(&line, 9, &written)?);
                continue;
            }
            let text = String::from_utf8_lossy(&line.1);
            if text.starts_with('#') || text.trim().is_empty() {
                continue;
            }
            let (list, entry) = match text.strip_prefix("default:") {
                Some(entry) => (&mut default, entry),
                None => (&mut access, text.as_ref()),
            };
            let entry = acl::entry(entry).ok_or_else(|| {
                self.refuse(
                    line.0,
                    2,
                    &line.1,
                    format!("{:?} is no ACL entry with numbers", shown(&line.1)),
                )
            })?;
            list.push(entry);
        }
        keep(path.take(), &mut access, &mut default);
        Ok(all)
    }

    /// What `nfs4_getfacl(1)` prints, each under a line with the path.
    fn nfs4_acls(&self, all: &mut HashMap<AbsPath, Extras>) -> Result<(), Refused> {
        let mut open: Option<(AbsPath, Vec<String>)> = None;
        let mut keep = |open: Option<(AbsPath, Vec<String>)>| {
            if let Some((path, lines)) = open.filter(|(_, lines)| !lines.is_empty()) {
                let acl = Nfs4Acl::of_text(lines.iter().map(String::as_str));
                all.entry(path).or_default().nfs4_acl = Some(acl);
            }
        };
        for line in self.lines("nfs4acl") {
            if let Some(written) = line.1.strip_prefix(b"# file: ") {
                keep(open.take());
                open = Some((self.path(&line, 9, written)?, Vec::new()));
            } else if let Some((_, lines)) = &mut open {
                let text = String::from_utf8_lossy(&line.1);
                let text = text.trim();
                lines.extend((!text.is_empty() && !text.starts_with('#')).then(|| text.to_owned()));
            }
        }
        keep(open);
        Ok(())
    }

    /// What `lsattr -p -d` prints: the project, the letters of the flags, and the path.
    fn marks(
        &self,
        all: &mut HashMap<AbsPath, Extras>,
    ) -> Result<HashMap<AbsPath, Flags>, Refused> {
        let mut flags = HashMap::new();
        for line in self.lines("marks") {
            let mut fields = line.1.splitn(3, |&b| b == b' ');
            let (project, letters, path) = (fields.next(), fields.next(), fields.next());
            let project = project.and_then(|text| std::str::from_utf8(text).ok()?.parse().ok());
            let (Some(id), Some(letters), Some(path)) = (project, letters, path) else {
                let message = "a project's number, letters and a path belong here".into();
                return Err(self.refuse(line.0, 2, &line.1, message));
            };
            let path = self.path(&line, 1, path)?;
            let has = |letter| letters.contains(&letter);
            let inherits = has(b'P');
            if id != 0 || inherits {
                all.entry(path.clone()).or_default().project = Some(Project { id, inherits });
            }
            flags.insert(path, Flags { immutable: has(b'i'), append: has(b'a') });
        }
        Ok(flags)
    }

    fn path(&self, line: &Line, column: usize, written: &[u8]) -> Result<AbsPath, Refused> {
        let refuse = |message: String| self.refuse(line.0, column + 1, &line.1, message);
        let path = AbsPath::new(&unescape(written))
            .map_err(|fault| refuse(format!("the path {:?} {fault}", shown(written))))?;
        if path.as_bytes().len() > LONGEST_PATH {
            return Err(refuse(format!("a path of {} bytes", path.as_bytes().len())));
        }
        let long = path.components().find(|name| !file_name::is_one(name)).map(<[u8]>::len);
        match long {
            Some(length) => Err(refuse(format!("a name of {length} bytes"))),
            None => Ok(path),
        }
    }

    fn gaps(&self) -> Result<Vec<Gap>, Refused> {
        let gap = |line: Line<'_>| {
            let cut = line.1.iter().position(|&b| b == b'\t').unwrap_or(line.1.len());
            let why = String::from_utf8_lossy(line.1.get(cut + 1..).unwrap_or_default());
            let why = if why.is_empty() { "it could not be read" } else { why.as_ref() };
            let why = why.into();
            Ok(Gap { path: self.path(&line, 1, &line.1[..cut])?, why })
        };
        self.lines("gaps").map(gap).collect()
    }

    fn roots(&self) -> Result<Roots, Refused> {
        let mut roots = Roots::default();
        for line in self.lines("roots") {
            let (paths, rest) = if let Some(rest) = line.1.strip_prefix(b"deep ") {
                (&mut roots.deep, rest)
            } else if let Some(rest) = line.1.strip_prefix(b"names ") {
                (&mut roots.names, rest)
            } else if let Some(rest) = line.1.strip_prefix(b"none ") {
                (&mut roots.none, rest)
            } else {
                return Err(self.refuse(
                    line.0,
                    2,
                    &line.1,
                    "a root starts with deep, names or none".into(),
                ));
            };
            paths.push(self.path(&line, 2, rest)?);
        }
        Ok(roots)
    }

    /// That two lines say different things of one entry.
    fn twice(&self, entry: &AbsPath) -> Refused {
        let columns =
            self.sections.sections.get("tree").map(|section| Columns::of(&section.columns));
        let of_entry = |line: &Line<'_>| {
            let Some(Ok(columns)) = &columns else { return false };
            let written = columns.read(&line.1).map(|(written, ..)| written);
            written.is_ok_and(|written| AbsPath::new(&unescape(written)).as_ref() == Ok(entry))
        };
        let mut lines = self.lines("tree").filter(of_entry);
        let first = lines.next().map_or(0, |(number, _)| number);
        let (number, text) = lines.next().unwrap_or((first, Cow::Borrowed(b"")));
        let message =
            format!("{entry} stands here a second time, and otherwise than in line {first}");
        self.refuse(number, 2, &text, message)
    }

    fn tree(&self, roots: &Roots, gaps: &[Gap]) -> Result<Tree, Refused> {
        let Some(section) = self.sections.sections.get("tree") else {
            return Err(self.refuse(
                1,
                1,
                FIRST_LINE.as_bytes(),
                "the listing has no section tree".into(),
            ));
        };
        let columns = Columns::of(&section.columns)
            .map_err(|message| self.refuse(section.start, 1, b"", message))?;
        let mut acls = self.acls()?;
        self.nfs4_acls(&mut acls)?;
        let marks = self.marks(&mut acls)?;
        let mut top: Option<usize> = None;
        // Which lines are of entries of each folder.
        let mut folders: HashMap<AbsPath, usize> = HashMap::new();
        let mut lines_of: Vec<Vec<u32>> = Vec::new();
        let mut last: Option<EntryKind> = None;
        // The folder of the line before, as it is written: most lines are of the same.
        let mut same: Option<(u32, usize, usize)> = None;
        let read = |line: &Line| {
            let (written, column, meta) = columns
                .read(&line.1)
                .map_err(|(column, message)| self.refuse(line.0, column + 1, &line.1, message))?;
            let path = self.path(line, column, written)?;
            Ok::<_, Refused>((path, meta))
        };
        // The name and the rest of an entry whose folder is known, where nothing about it is out of
        // the ordinary.
        let plain = |index: usize, folder: usize| {
            let (_, head, name) = section.split(index)?;
            let (b"", _, meta) = columns.read(head).ok()? else { return None };
            let name = unescape(name);
            let is_one = file_name::is_one(&name) && folder + 1 + name.len() <= LONGEST_PATH;
            is_one.then_some((name, meta))
        };
        for index in 0..section.len() {
            let number = u32::try_from(index).expect("there are less than 2^32 lines");
            if section.begins_with(index, TARGET) {
                if last != Some(EntryKind::Symlink) {
                    let line = section.line(index);
                    let message = "a target that follows no symlink".into();
                    return Err(self.refuse(line.0, 2, &line.1, message));
                }
                continue;
            }
            let folder = section.split(index).map(|(folder, ..)| folder);
            if let Some((_, at, length)) = same.filter(|(same, ..)| Some(*same) == folder)
                && let Some((_, meta)) = plain(index, length)
            {
                lines_of[at].push(number);
                last = Some(meta.kind);
                continue;
            }
            let (path, meta) = read(&section.line(index))?;
            same = None;
            match path.parent() {
                Some(parent) => {
                    let length = parent.as_bytes().len();
                    let at = *folders.entry(parent).or_insert_with(|| {
                        lines_of.push(Vec::new());
                        lines_of.len() - 1
                    });
                    lines_of[at].push(number);
                    let is_plain = file_name::is_one(&unescape(
                        section.split(index).map_or(&b""[..], |(_, _, name)| name),
                    ));
                    same = folder.filter(|_| is_plain).map(|folder| (folder, at, length));
                    last = Some(meta.kind);
                }
                None => (top, last) = (Some(index), None),
            }
        }
        // They are read a second time, when their folder is known: all of them as entries would
        // take several times the room of their text.
        let mut entry = |index: usize, folder: Option<&AbsPath>| {
            let found = folder.and_then(|folder| plain(index, folder.as_bytes().len()));
            let (name, meta, path) = match found {
                Some((name, meta)) => {
                    let told = !(marks.is_empty() && acls.is_empty());
                    let path = folder.filter(|_| told).map(|folder| folder.child(&name));
                    (name, meta, path)
                }
                None => {
                    let (path, meta) = read(&section.line(index))?;
                    (path.name().unwrap_or_default().to_vec(), meta, Some(path))
                }
            };
            let flags = path.as_ref().and_then(|path| marks.get(path).copied());
            let extras = path.and_then(|path| acls.remove(&path)).unwrap_or_default();
            let mut entry = NewEntry { extras, ..NewEntry::plain(name, Meta { flags, ..meta }) };
            let below = index + 1..section.len();
            for index in below.take_while(|index| section.begins_with(*index, TARGET)) {
                entry.target = Some(unescape(&section.line(index).1[TARGET.len()..]));
            }
            Ok(entry)
        };
        let Some(top) = top else {
            return Err(self.refuse(section.start, 1, b"", "the tree has no line for /".into()));
        };
        let root = entry(top, None)?;
        if root.meta.kind != EntryKind::Folder {
            let line = section.line(top);
            return Err(self.refuse(line.0, 2, &line.1, "/ is a folder on every host".into()));
        }
        let mut builder = TreeBuilder::new(root);
        let failed: HashSet<&AbsPath> = gaps.iter().map(|gap| &gap.path).collect();
        let roots = roots.sets();
        let mut todo = vec![(Tree::ROOT, AbsPath::root(), Within::default())];
        while let Some((node, path, within)) = todo.pop() {
            let within = within.at(&path, &roots);
            let listing = if failed.contains(&path) {
                Listing::Failed
            } else if roots.names.contains(&path) || within.deep && !within.none {
                Listing::Complete
            } else {
                Listing::NotListed
            };
            let lines = folders.remove(&path).map(|at| std::mem::take(&mut lines_of[at]));
            let lines = lines.unwrap_or_default().into_iter();
            let mut entries: Vec<NewEntry> =
                lines.map(|index| entry(index as usize, Some(&path))).collect::<Result<_, _>>()?;
            entries.sort_by(|a, b| a.name.cmp(&b.name));
            // What was looked at twice may have grown meanwhile; it is not something else.
            let other = |a: &NewEntry, b: &NewEntry| {
                let what = |e: &NewEntry| (e.meta.kind, e.meta.mode, e.meta.uid, e.meta.gid);
                a.name == b.name && (what(a) != what(b) || a.target != b.target)
            };
            if let Some(pair) = entries.windows(2).find(|pair| other(&pair[0], &pair[1])) {
                return Err(self.twice(&path.child(&pair[0].name)));
            }
            for child in builder.fill(node, entries, listing) {
                if builder.kind(child) == EntryKind::Folder {
                    todo.push((child, path.child(builder.name(child)), within));
                }
            }
        }
        let first = |at: usize| lines_of[at][0];
        if let Some((path, at)) = folders.iter().min_by_key(|(_, at)| first(**at)) {
            let message =
                format!("{path} is no folder of this listing, and yet something is in it");
            let line = section.line(first(*at) as usize);
            return Err(self.refuse(line.0, 2, &line.1, message));
        }
        Ok(builder.finish())
    }
}

/// Which folders were read to the end.
#[derive(Default)]
struct Roots {
    /// They and every folder below.
    deep: Vec<AbsPath>,
    /// Only they themselves.
    names: Vec<AbsPath>,
    /// Neither they nor what is below, although it lies in one of the others.
    none: Vec<AbsPath>,
}

impl Roots {
    fn all(&self) -> Vec<Root> {
        let root = |deep| move |path: &AbsPath| Root { path: path.clone(), deep };
        self.deep.iter().map(root(true)).chain(self.names.iter().map(root(false))).collect()
    }

    fn sets(&self) -> RootSets<'_> {
        let [deep, names, none] =
            [&self.deep, &self.names, &self.none].map(|paths| paths.iter().collect());
        RootSets { deep, names, none }
    }
}

struct RootSets<'a> {
    deep: HashSet<&'a AbsPath>,
    names: HashSet<&'a AbsPath>,
    none: HashSet<&'a AbsPath>,
}

/// In which roots a folder lies.
#[derive(Clone, Copy, Default)]
struct Within {
    deep: bool,
    none: bool,
}

impl Within {
    /// One step down.
    fn at(self, path: &AbsPath, roots: &RootSets) -> Self {
        Self {
            deep: self.deep || roots.deep.contains(path),
            none: self.none || roots.none.contains(path),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tarvek_core::facts::tree::Lookup;

    const GOOD: &str = "tarvek-listing 1\nhost granary\ntaken 1795305600\nsection roots\n|deep \
                        /loft/media\nend roots\n\
        section tree type mode uid gid size allocated inode links mtime device path\n\
        |d 0755 0 0 6 0 34 3 1 - /\n|d 0755 0 0 6 0 34 3 1 - /loft\n|d 2775 0 2100 4 - - 3 1.5 - \
        /loft/media\n\
        |l 0777 0 0 4 - - 1 1 - /loft/media/new\\012line\n|> films \\\\x\nend tree\ncomplete\n";

    #[test]
    fn a_listing_is_read() {
        for text in [GOOD.to_owned(), GOOD.replace('\n', "\r\n"), format!("\u{feff}{GOOD}\n\n")] {
            let facts = read("x", text.as_bytes()).unwrap();
            let path = |text: &[u8]| facts.tree.find(&AbsPath::new(text).unwrap());
            let Lookup::Found(link) = path(b"/loft/media/new\nline") else { panic!() };
            assert_eq!(facts.tree.target(link), Some(&b"films \\\\x"[..]));
            let Lookup::Found(media) = path(b"/loft/media") else { panic!() };
            assert_eq!(facts.tree.meta(media).mode, 0o2775);
            assert_eq!(facts.tree.meta(media).modified, 1_500_000_000);
            assert_eq!(path(b"/loft/media/x"), Lookup::Absent);
            assert_eq!(path(b"/loft/x"), Lookup::Unseen);
        }
    }

    #[test]
    fn what_is_no_folder_holds_nothing() {
        for (from, to) in [
            ("|d 0755 0 0 6 0 34 3 1 - /\n", "|f 0644 0 0 6 0 34 3 1 - /\n"),
            ("|d 0755 0 0 6 0 34 3 1 - /loft\n", "|f 0644 0 0 6 0 34 3 1 - /loft\n"),
        ] {
            let refused = read("x", GOOD.replace(from, to).as_bytes()).unwrap_err().to_string();
            assert!(refused.contains("folder") && !refused.contains("fault"), "{refused}");
        }
    }

    #[test]
    fn marks_and_nfsv4_acls_belong_to_their_entries() {
        let more = "end tree\nsection marks\n|42 ----i---------eP------ /loft/media\n|0 \
                    -----a-------- /loft\nend marks\n\
            section nfs4acl\n|# file: /loft/media\n|A::OWNER@:rwaDxtTnNcCoy\n|D:g:keepers:w\n\
            |A:fd:840:RX\nend nfs4acl\n";
        let facts = read("x", GOOD.replace("end tree\n", more).as_bytes()).unwrap();
        let path = |text: &[u8]| facts.tree.find(&AbsPath::new(text).unwrap());
        let (Lookup::Found(media), Lookup::Found(loft)) = (path(b"/loft/media"), path(b"/loft"))
        else {
            panic!()
        };
        let flags = |node| facts.tree.meta(node).flags.map(|f| (f.immutable, f.append));
        assert_eq!((flags(media), flags(loft)), (Some((true, false)), Some((false, true))));
        let extras = facts.tree.extras(media).unwrap();
        assert_eq!(extras.project, Some(Project { id: 42, inherits: true }));
        let acl = extras.nfs4_acl.as_ref().unwrap();
        assert!(acl.is_understood());
        let written: Vec<String> = acl.entries().iter().map(ToString::to_string).collect();
        assert_eq!(written, ["A::OWNER@:rwaxDtTnNcCoy", "D:g:keepers:w", "A:fd:840:rxtncy"]);
        let odd = GOOD.replace("end tree\n", &more.replace("A:fd:840:RX", "A:fd:840:q"));
        let facts = read("x", odd.as_bytes()).unwrap();
        let Lookup::Found(media) = facts.tree.find(&AbsPath::new(b"/loft/media").unwrap()) else {
            panic!()
        };
        assert!(!facts.tree.extras(media).unwrap().nfs4_acl.as_ref().unwrap().is_understood());
    }

    #[test]
    fn a_cut_listing_is_refused_wherever_it_is_cut() {
        for end in 0..GOOD.len() - 1 {
            let refused = read("x", &GOOD.as_bytes()[..end]).expect_err(&GOOD[..end]);
            assert_eq!(refused.mistakes.len(), 1);
        }
    }

    #[test]
    fn mistakes_name_their_line() {
        for (from, to, line, words) in [
            ("tarvek-listing 1", "tarvek-listing 9", 1, "version 9"),
            ("|d 2775 0", "|d 9775 0", 10, "is not what belongs here"),
            ("0 2100", "0 x", 10, "is not what belongs here"),
            ("/loft/media\n|l", "loft/media\n|l", 10, "is not absolute"),
            ("|d 0755 0 0 6 0 34 3 1 - /loft\n", "", 9, "no folder of this listing"),
            ("end roots", "oops", 6, "does not belong"),
            ("|deep", "|wide", 5, "deep, names or none"),
            ("complete\n", "complete\nhost x\n", 15, "more after the end"),
            ("taken 1795305600", "taken never", 3, "no number of seconds"),
            ("listing 1\n", "listing 1\rpassword=x\r", 1, "follows the version"),
            (
                "|l 0777",
                "|d 0700 0 2100 4 0 34 3 1 - /loft/media\n|l 0777",
                11,
                "otherwise than in line 10",
            ),
            ("end roots\n", "end roots\nsection roots\nend roots\n", 7, "a second section"),
        ] {
            let refused = read("x", GOOD.replacen(from, to, 1).as_bytes()).unwrap_err();
            let mistake = &refused.mistakes[0];
            assert_eq!(
                (mistake.line, mistake.message.contains(words)),
                (line, true),
                "{mistake:?}"
            );
        }
    }
}

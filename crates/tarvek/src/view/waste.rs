//! What is wasted, as text: what would come back, per kind and library, then the groups that bring
//! most.

use std::collections::HashMap;
use std::fmt::Write;

use tarvek_core::facts::host::Gap;
use tarvek_core::facts::media::Media;
use tarvek_core::kernel::entry::EntryKind;
use tarvek_core::waste::found::{Sum, by_area, by_kind};
use tarvek_core::waste::group::{Group, Item, Suggest};
use tarvek_core::waste::inventory::{FileId, Inventory, Role};
use tarvek_core::words::text::{bytes, counted};
use tarvek_formats::ignored::Ignored;
use tarvek_host::filesystem::FilesystemId;
use unicode_width::UnicodeWidthStr;

use super::forecast::of_header;
use super::screen::{Screen, Volume};
use super::style::{Styled, dim, doubt, plain, sign, strong, suggestion};
use super::wrap::wrap;

/// What was found, and what it took.
pub(crate) struct WasteReport<'a> {
    pub(crate) stock: &'a Inventory<'a>,
    pub(crate) groups: &'a [Group],
    /// What headers say that were read.
    pub(crate) media: &'a HashMap<FileId, Option<Media>>,
    /// What filesystems are known by, by their device numbers.
    pub(crate) filesystems: &'a HashMap<u64, FilesystemId>,
    pub(crate) ignored: &'a Ignored,
    /// Groups that are not shown, since somebody ignores them.
    pub(crate) hidden: u64,
    pub(crate) bytes_read: u64,
    pub(crate) header_bytes: u64,
    /// Files that were taken as unchanged by a sample.
    pub(crate) carried: u64,
    /// Files of surveys that may be equal to others.
    pub(crate) undecided: u64,
    pub(crate) failed: &'a [Gap],
    /// Whether processes of others may hold files open.
    pub(crate) blind: bool,
    /// Libraries and intakes that were not seen.
    pub(crate) unseen: &'a [String],
    /// Whether it was broken off before everything was compared.
    pub(crate) stopped: bool,
    /// Whether only a part is asked for.
    pub(crate) filtered: bool,
}

/// Groups on the first screen, and names of each.
const MOST: (usize, usize) = (8, 6);

impl WasteReport<'_> {
    /// Bytes that come back by all that is suggested.
    pub(crate) fn frees(&self) -> u64 {
        self.groups.iter().map(|group| group.frees).sum()
    }

    /// Whether something could not be looked at.
    fn lacks(&self) -> bool {
        let unread = self.stock.unreadable + self.failed.len() as u64 + self.undecided;
        unread > 0 || !self.unseen.is_empty()
    }

    /// What a name's header says.
    pub(crate) fn header(&self, item: &Item) -> Option<&Media> {
        self.media.get(&self.stock.file(item.name)?)?.as_ref()
    }

    /// Whether a name is one of a folder.
    pub(crate) fn is_folder(&self, item: &Item) -> bool {
        self.stock.tree(item.name).meta(item.name.node).kind == EntryKind::Folder
    }
}

pub(crate) fn text(told: &WasteReport, screen: &Screen) -> String {
    let mut out = String::new();
    let at_most = told.groups.iter().any(|group| group.at_most);
    let going =
        told.groups.iter().flat_map(|g| &g.items).filter(|item| item.suggest.takes()).count();
    let look = told
        .groups
        .iter()
        .filter(|g| g.items.iter().any(|item| item.suggest == Suggest::Look))
        .count();
    let what = if told.filtered { "what was asked for" } else { "all that was looked at" };
    let _ = match (told.groups.len() as u64, told.frees()) {
        (0, _) if told.stock.areas.is_empty() => writeln!(
            out,
            "{} nothing was looked at: {} not seen",
            sign(None, false),
            counted(told.unseen.len() as u64, "place")
        ),
        (0, _) if told.stopped => {
            writeln!(out, "{} broken off before anything was found", sign(None, false))
        }
        (0, _) => {
            let files = counted(told.stock.len() as u64, "file");
            match told.lacks() {
                true => writeln!(
                    out,
                    "{} no waste in what could be looked at: {files}",
                    sign(Some(true), true)
                ),
                false => writeln!(out, "{} no waste in {what}: {files}", sign(Some(true), false)),
            }
        }
        (_, 0) => writeln!(
            out,
            "{} no bytes would come back: {} could go, {} {} eyes",
            sign(Some(true), true),
            counted(going as u64, "name"),
            counted(look as u64, "group"),
            if look == 1 { "needs" } else { "need" }
        ),
        (_, frees) => writeln!(
            out,
            "{} {} {} would come back by taking away {}{}",
            sign(Some(true), true),
            if at_most { "at most" } else { "" },
            strong(bytes(frees)),
            counted(going as u64, "name"),
            if look > 0 {
                format!(
                    ", and {} {} eyes",
                    counted(look as u64, "group"),
                    if look == 1 { "needs" } else { "need" }
                )
            } else {
                String::new()
            },
        ),
    };
    out = out.replacen("  ", " ", 1);
    if screen.volume() == Volume::Quiet {
        return out;
    }
    if !told.groups.is_empty() {
        out.push('\n');
        sums(&mut out, told, screen);
        groups(&mut out, told, screen);
    }
    remarks(&mut out, told, screen);
    out
}

fn sums(out: &mut String, told: &WasteReport, screen: &Screen) {
    let kinds = by_kind(told.groups).into_iter().map(|(kind, sum)| (kind.word().to_owned(), sum));
    let areas = by_area(told.stock, told.groups).into_iter().filter(|(_, sum)| sum.groups > 0);
    let name = |area: u16| {
        let area = &told.stock.areas[usize::from(area)];
        match area.role {
            Role::Given => screen.near(area.name.raw().as_bytes()),
            Role::Library => area.name.to_string(),
            Role::Intake => format!("intake {}", area.name),
        }
    };
    // Several roots of one library are one line.
    let mut by_name: Vec<(String, Sum)> = Vec::new();
    for (area, sum) in areas {
        let name = name(area);
        match by_name.iter_mut().find(|(known, _)| *known == name) {
            Some((_, known)) => known.add_sum(&sum),
            None => by_name.push((name, sum)),
        }
    }
    let kinds: Vec<(String, Sum)> = kinds.collect();
    let width =
        kinds.iter().chain(&by_name).map(|(name, _)| name.width()).max().unwrap_or(0).clamp(8, 48);
    for (head, rows) in [("kind", &kinds), ("where", &by_name)] {
        let _ = writeln!(
            out,
            "  {}",
            dim(format!(
                "{head:width$}  {:>7}  {:>7}  {:>12}  {:>7}",
                "groups", "names", "comes back", "to look"
            ))
        );
        for (name, sum) in rows {
            let back = format!("{}{}", if sum.at_most { "≤ " } else { "" }, bytes(sum.bytes));
            let look = if sum.look == 0 { "–".to_owned() } else { sum.look.to_string() };
            let _ = writeln!(
                out,
                "  {:width$}  {:>7}  {:>7}  {:>12}  {:>7}",
                plain(name),
                sum.groups,
                sum.files,
                back,
                look
            );
        }
        out.push('\n');
    }
}

fn groups(out: &mut String, told: &WasteReport, screen: &Screen) {
    let all = screen.volume() == Volume::Verbose;
    let (most, names) = if all { (usize::MAX, usize::MAX) } else { MOST };
    for (n, group) in told.groups.iter().take(most).enumerate() {
        let ignored = if told.ignored.has(&group.id) { "  ignored" } else { "" };
        let back = format!("{}{}", if group.at_most { "≤ " } else { "" }, bytes(group.frees));
        let id = if all { format!("  {}", dim(&group.id)) } else { String::new() };
        let _ = writeln!(
            out,
            "{:>3}  {}  {back} back{id}{}",
            n + 1,
            strong(group.kind.word()),
            doubt(ignored)
        );
        let _ = writeln!(out, "     {}", wrap(&group.why, &[], screen.width() - 5, "     "));
        let shown =
            group.items.len().min(if group.items.len() > names { names - 1 } else { names });
        let rows: Vec<[Styled; 3]> =
            group.items[..shown].iter().map(|item| row(told, item)).collect();
        let width = |column: usize| rows.iter().map(|row| row[column].width()).max().unwrap_or(0);
        let (first, second) = (width(0), width(1));
        for ([suggest, size, picture], item) in rows.iter().zip(&group.items) {
            let path = screen.near(told.stock.path(item.name).as_bytes());
            let host = if told.stock.hosts.len() > 1 {
                format!("{}:", told.stock.facts(item.name).name)
            } else {
                String::new()
            };
            let _ = writeln!(out, "     {suggest:first$}  {size:second$}  {host}{path}");
            let mut notes = Vec::new();
            if picture.width() > 0 {
                notes.push(picture.to_string());
            }
            if !item.why.is_empty() && !group.why.ends_with(&item.why) {
                notes.push(dim(&item.why).to_string());
            }
            if !notes.is_empty() {
                let _ = writeln!(out, "     {:first$}  {:second$}  {}", "", "", notes.join("  "));
            }
        }
        if group.items.len() > shown {
            let _ = writeln!(
                out,
                "     {}",
                dim(format!("… and {} more; -v shows all", group.items.len() - shown))
            );
        }
        out.push('\n');
    }
    if told.groups.len() > most {
        let rest: u64 = told.groups[most..].iter().map(|group| group.frees).sum();
        let _ = writeln!(
            out,
            "{}\n",
            dim(format!(
                "… and {} more ({}); -v shows all, --review FILE lists them for decisions",
                counted((told.groups.len() - most) as u64, "group"),
                bytes(rest)
            ))
        );
    }
}

fn row(told: &WasteReport, item: &Item) -> [Styled; 3] {
    let meta = told.stock.tree(item.name).meta(item.name.node);
    let size = if told.is_folder(item) { "folder".to_owned() } else { bytes(meta.size) };
    let picture = told
        .header(item)
        .map(|media| {
            format!("{}  {}", of_header(media), rate(media, meta.size)).trim_end().to_owned()
        })
        .unwrap_or_default();
    [suggestion(item.suggest), plain(size), plain(picture)]
}

fn rate(media: &Media, size: u64) -> String {
    media.bits_per_second(size).map(|rate| format!("{} kbit/s", rate / 1000)).unwrap_or_default()
}

fn remarks(out: &mut String, told: &WasteReport, screen: &Screen) {
    let mut remark = |text: String| {
        let _ = writeln!(out, "{}", dim(text));
    };
    remark(format!(
        "{} looked at; {} of contents and {} of headers read",
        counted(told.stock.len() as u64, "file"),
        bytes(told.bytes_read),
        bytes(told.header_bytes)
    ));
    if told.stopped {
        remark("broken off: there may be more".to_owned());
    }
    if told.stock.unreadable > 0 {
        remark(format!("{} could not be looked into", counted(told.stock.unreadable, "place")));
    }
    if told.carried > 0 {
        remark(format!(
            "{} had a new mode, owner or name: a sample says that the contents are the same; \
             reclaim compares all of them again",
            counted(told.carried, "file")
        ));
    }
    if told.blind {
        remark(
            "processes of other accounts could not be looked at: what they hold open does not \
                come back before they let go"
                .to_owned(),
        );
    }
    if told.hidden > 0 {
        remark(format!(
            "{} ignored; --show-ignored shows {}",
            counted(told.hidden, "group"),
            if told.hidden == 1 { "it" } else { "them" }
        ));
    }
    if !told.failed.is_empty() {
        remark(format!("{} could not be read:", counted(told.failed.len() as u64, "file")));
        let most = if screen.volume() == Volume::Verbose { usize::MAX } else { 5 };
        for gap in told.failed.iter().take(most) {
            remark(format!("    {}: {}", gap.path, gap.why));
        }
        if told.failed.len() > most {
            remark("    … -v shows all of them".to_owned());
        }
    }
}

//! The answer of `tarvek waste`.

use schemars::JsonSchema;
use serde::Serialize;
use tarvek_core::facts::host::Gap;
use tarvek_core::waste::found::{Sum, by_area, by_kind};
use tarvek_core::waste::group::{Group, Item, Suggest, Waste as Kind};
use tarvek_formats::keyword::Keyword;

use super::common::Path;
use super::forecast::MediaDoc;
use crate::view::waste::WasteReport;

/// The answer of `tarvek waste`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/waste/1")]
pub(crate) struct Waste {
    /// `tarvek/waste/1`.
    schema: &'static str,
    /// What brings most first.
    groups: Vec<GroupDoc>,
    totals: Totals,
    by_kind: Vec<KindDoc>,
    by_library: Vec<LibraryDoc>,
    /// Files that could not be read, or changed meanwhile.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    failed: Vec<FailedDoc>,
    /// Whether it was broken off: there may be more.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    #[schemars(default)]
    stopped: bool,
    /// Libraries and intakes that were not seen: their waste is not known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    unseen: Vec<String>,
    /// Hosts whose survey was broken off: what it lacks is not known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    pub(super) partial: Vec<String>,
}

/// Files that belong together.
#[derive(Debug, Serialize, JsonSchema)]
struct GroupDoc {
    /// The same at each look.
    id: String,
    kind: Keyword<Kind>,
    /// What comes back once all that is suggested is done, and nothing is held any more.
    reclaimable_bytes: u64,
    /// Whether it may be less, since the filesystem does not tell.
    at_most: bool,
    why: String,
    /// Whether somebody ignores it.
    ignored: bool,
    /// BLAKE3 of what its files hold, in hexadecimal digits, if they hold the same.
    #[serde(skip_serializing_if = "Option::is_none")]
    digest: Option<String>,
    /// One per name.
    files: Vec<FileDoc>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct FileDoc {
    #[serde(flatten)]
    path: Path,
    host: String,
    /// The library, intake or folder that it lies in.
    library: String,
    /// Its size; 0 of a folder.
    bytes: u64,
    allocated_bytes: u64,
    /// How many names it has.
    links: u32,
    suggest: Keyword<Suggest>,
    /// Why just this.
    #[serde(skip_serializing_if = "String::is_empty")]
    #[schemars(default)]
    why: String,
    /// What comes back of it, told at the first of its names.
    frees: u64,
    /// Whether it is a folder.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    #[schemars(default)]
    folder: bool,
    /// What its header says, where that was asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    media: Option<MediaDoc>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct Totals {
    /// Files that were looked at, each once however many names it has.
    files: u64,
    /// Their sizes.
    bytes: u64,
    allocated_bytes: u64,
    /// What comes back by all that is suggested, each file once.
    reclaimable_bytes: u64,
    /// Contents that were read to compare files.
    bytes_read: u64,
    /// What was read of headers.
    header_bytes_read: u64,
    /// Places and files that could not be looked at.
    unreadable: u64,
    /// Files of surveys that may be equal to others, and have no digest.
    undecided: u64,
    /// Files whose inode has changed (mode, owner, names) and of which a sample says that the
    /// contents have not.
    carried: u64,
    /// Groups that are not shown, since somebody ignores them.
    ignored: u64,
}

#[derive(Debug, Serialize, JsonSchema)]
struct KindDoc {
    kind: Keyword<Kind>,
    #[serde(flatten)]
    sum: SumDoc,
}

#[derive(Debug, Serialize, JsonSchema)]
struct LibraryDoc {
    /// The library, intake or folder.
    name: String,
    #[serde(flatten)]
    path: Path,
    host: String,
    #[serde(flatten)]
    sum: SumDoc,
}

#[derive(Debug, Serialize, JsonSchema)]
struct SumDoc {
    groups: u64,
    /// Names that would go.
    names: u64,
    reclaimable_bytes: u64,
    /// At how many somebody has to look.
    look: u64,
}

#[derive(Debug, Serialize, JsonSchema)]
struct FailedDoc {
    #[serde(flatten)]
    path: Path,
    why: String,
}

impl From<&Sum> for SumDoc {
    fn from(sum: &Sum) -> Self {
        Self { groups: sum.groups, names: sum.files, reclaimable_bytes: sum.bytes, look: sum.look }
    }
}

impl Waste {
    pub(crate) fn new(told: &WasteReport) -> Self {
        let stock = told.stock;
        let metas = || stock.files().map(|file| stock.meta(file));
        let failed =
            |gap: &Gap| FailedDoc { path: (&gap.path).into(), why: gap.why.raw().to_owned() };
        let library = |(n, sum): (u16, Sum)| {
            let area = &stock.areas[usize::from(n)];
            LibraryDoc {
                name: area.name.raw().to_owned(),
                path: (&area.place.path).into(),
                host: area.place.host.raw().to_owned(),
                sum: (&sum).into(),
            }
        };
        Self {
            schema: "tarvek/waste/1",
            groups: told.groups.iter().map(|group| GroupDoc::new(told, group)).collect(),
            totals: Totals {
                files: stock.len() as u64,
                bytes: metas().map(|meta| meta.size).sum(),
                allocated_bytes: metas().map(|meta| meta.allocated.unwrap_or(meta.size)).sum(),
                reclaimable_bytes: told.frees(),
                bytes_read: told.bytes_read,
                header_bytes_read: told.header_bytes,
                unreadable: stock.unreadable + told.failed.len() as u64,
                undecided: told.undecided,
                carried: told.carried,
                ignored: told.hidden,
            },
            by_kind: by_kind(told.groups)
                .iter()
                .map(|(kind, sum)| KindDoc { kind: Keyword(*kind), sum: sum.into() })
                .collect(),
            by_library: by_area(stock, told.groups).into_iter().map(library).collect(),
            failed: told.failed.iter().map(failed).collect(),
            stopped: told.stopped,
            unseen: told.unseen.to_vec(),
            partial: Vec::new(),
        }
    }
}

impl GroupDoc {
    fn new(told: &WasteReport, group: &Group) -> Self {
        let digest =
            group.digest.map(|digest| digest.iter().map(|byte| format!("{byte:02x}")).collect());
        Self {
            id: group.id.clone(),
            kind: Keyword(group.kind),
            reclaimable_bytes: group.frees,
            at_most: group.at_most,
            why: group.why.clone(),
            ignored: told.ignored.has(&group.id),
            digest,
            files: group.items.iter().map(|item| FileDoc::new(told, item)).collect(),
        }
    }
}

impl FileDoc {
    fn new(told: &WasteReport, item: &Item) -> Self {
        let stock = told.stock;
        let meta = stock.tree(item.name).meta(item.name.node);
        let folder = told.is_folder(item);
        Self {
            path: (&stock.path(item.name)).into(),
            host: stock.facts(item.name).name.raw().to_owned(),
            library: stock.area(item.name).name.raw().to_owned(),
            bytes: if folder { 0 } else { meta.size },
            allocated_bytes: if folder { 0 } else { meta.allocated.unwrap_or(meta.size) },
            links: meta.links,
            suggest: Keyword(item.suggest),
            why: item.why.clone(),
            frees: item.frees,
            folder,
            media: told.header(item).map(|media| MediaDoc::new(media, meta.size)),
        }
    }
}

//! The answer of `tarvek trace`.

use schemars::JsonSchema;
use serde::Serialize;
use tarvek_core::judge::verdict::Answer;
use tarvek_core::route::end::End;
use tarvek_core::route::hops::{Hop, HopKind, Route, View};
use tarvek_core::route::known_as::KnownAs;
use tarvek_core::site::join::Site;
use tarvek_core::words::evidence::Evidence;
use tarvek_core::words::place::Place;
use tarvek_core::words::terms::Access;
use tarvek_formats::keyword::Keyword;

use super::common::{Identity, Path, exact, lossy};

/// The answer of `tarvek trace`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/trace/1")]
pub(crate) struct Trace {
    /// `tarvek/trace/1`.
    schema: &'static str,
    #[serde(flatten)]
    path: Path,
    /// The viewpoint.
    from: String,
    /// The place where the way ends.
    ends: JsonEnds,
    /// From the viewpoint inward.
    hops: Vec<HopDoc>,
    /// Whether the way leads to an entry, with every mount in place.
    complete: bool,
    /// Whether who asks can read what is there; null where that can't be told.
    readable: Option<bool>,
    /// Why it does not, if it does not.
    #[serde(skip_serializing_if = "Option::is_none")]
    broken: Option<String>,
    /// Hosts whose survey was broken off: what it lacks is not known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    pub(super) partial: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct JsonEnds {
    host: String,
    #[serde(flatten)]
    path: Path,
    /// The device of the entry there, as `MAJOR:MINOR`, in the view of a process.
    #[serde(skip_serializing_if = "Option::is_none")]
    device: Option<String>,
    /// Its inode, in the view of a process.
    #[serde(skip_serializing_if = "Option::is_none")]
    inode: Option<u64>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct HopDoc {
    kind: Keyword<HopKind>,
    host: String,
    path_in: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    path_in_bytes: Option<String>,
    path_out: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    path_out_bytes: Option<String>,
    /// The host after this hop.
    host_out: String,
    mode: Keyword<Access>,
    /// Who arrives; `groups` are the supplementary ones.
    identity: Identity,
    /// What made them somebody else here.
    #[serde(skip_serializing_if = "Option::is_none")]
    identity_changed_by: Option<String>,
    evidence: Keyword<Evidence>,
    note: String,
    /// Why it may not be what is meant.
    #[serde(skip_serializing_if = "Option::is_none")]
    doubt: Option<String>,
    /// Whether the way is broken here.
    broken: bool,
}

impl Trace {
    pub(crate) fn new(site: &Site, route: &Route, read: &Answer) -> Self {
        let here = route.here();
        let absent = route.not_mounted.first();
        let absent = absent.map(|absent| format!("{} is not mounted", absent.at.path));
        // A process may be the only one to have a path to it.
        let process = matches!(&route.view, View::Host(name) if site.runs_on(name).is_some());
        let entry = route.entry().filter(|_| process && route.end == End::Reached);
        let meta = entry.and_then(|(last, node)| Some(site.tree(&last.seen_on)?.meta(node)));
        let device = meta
            .as_ref()
            .and_then(|meta| meta.device)
            .map(|device| format!("{}:{}", device >> 32, device & 0xffff_ffff));
        Self {
            schema: "tarvek/trace/1",
            partial: Vec::new(),
            path: (&route.asked).into(),
            from: route.view.to_string(),
            ends: JsonEnds {
                host: here.host.raw().to_owned(),
                path: (&here.path).into(),
                device,
                inode: meta.and_then(|meta| meta.inode),
            },
            hops: route.hops.iter().map(HopDoc::from).collect(),
            complete: route.complete(),
            readable: read.allowed(),
            broken: absent.or_else(|| (!route.complete()).then(|| route.end.words())),
        }
    }
}

impl From<&Hop> for HopDoc {
    fn from(hop: &Hop) -> Self {
        Self {
            kind: Keyword(hop.kind),
            host: hop.from.host.raw().to_owned(),
            path_in: lossy(&hop.from.path),
            path_in_bytes: exact(&hop.from.path),
            path_out: lossy(&hop.to.path),
            path_out_bytes: exact(&hop.to.path),
            host_out: hop.to.host.raw().to_owned(),
            mode: Keyword(hop.access),
            identity: Identity::supplementary(&hop.subject),
            identity_changed_by: hop.changed_by.clone(),
            evidence: Keyword(hop.evidence),
            note: hop.note.clone(),
            doubt: hop.doubt.clone(),
            broken: hop.broken,
        }
    }
}

/// The answer of `tarvek trace --to`.
#[derive(Debug, Serialize, JsonSchema)]
#[schemars(title = "tarvek/trace-to/1")]
pub(crate) struct TraceTo {
    /// `tarvek/trace-to/1`.
    schema: &'static str,
    /// The folder that was asked for.
    to: To,
    /// Its names: the host's own, then those of services, other hosts and clients.
    names: Vec<NameDoc>,
    /// Hosts whose survey was broken off: what it lacks is not known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    pub(super) partial: Vec<String>,
}

#[derive(Debug, Serialize, JsonSchema)]
struct To {
    host: String,
    #[serde(flatten)]
    path: Path,
}

#[derive(Debug, Serialize, JsonSchema)]
struct NameDoc {
    /// Who knows it so: `service:NAME`, `host:NAME` or `client:NAME`.
    from: String,
    #[serde(flatten)]
    path: Path,
    /// What every layer on the way lets through.
    access: Keyword<Access>,
    /// Whether the way leads to an entry, with every mount in place.
    complete: bool,
}

impl TraceTo {
    pub(crate) fn new(place: &Place, names: &[KnownAs]) -> Self {
        let name = |known: &KnownAs| {
            let text = known.view.to_string();
            let from = match text.strip_prefix("host:").filter(|_| known.is_client) {
                Some(client) => format!("client:{client}"),
                None => text,
            };
            let path =
                known.path.as_client_writes().map_or_else(|| (&known.path).into(), Path::of_bytes);
            NameDoc { from, path, access: Keyword(known.access), complete: known.complete }
        };
        Self {
            schema: "tarvek/trace-to/1",
            to: To { host: place.host.raw().to_owned(), path: (&place.path).into() },
            names: names.iter().map(name).collect(),
            partial: Vec::new(),
        }
    }
}

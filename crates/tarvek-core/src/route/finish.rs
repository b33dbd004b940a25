//! What a walk makes of where it came: hops for people, layers and a trail for the decision.

use crate::facts::mounts::{MountEntry, MountTable};
use crate::facts::tree::{Listing, NodeId, Tree};
use crate::kernel::subject::Subject;
use crate::layout::host::HostRole;
use crate::route::end::{End, NotMounted};
use crate::route::hops::{Hop, HopKind, Level, Route, View};
use crate::route::spot::{Frame, MappingVia, MountVia, Via, WalkPosition};
use crate::site::join::Site;
use crate::site::layer::{Layer, LayerKind};
use crate::words::evidence::Evidence;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::place::Place;
use crate::words::terms::Access;
use crate::words::text::{counted, shown};

/// Turns a walked spot into a route.
pub(super) struct Finish<'a> {
    pub(super) site: &'a Site,
    pub(super) spot: &'a WalkPosition,
    pub(super) end: &'a End,
}

impl Finish<'_> {
    pub(super) fn route(&self, view: &View, written: &[u8], links: Vec<Hop>) -> Route {
        let mut hops = links;
        let mut layers = Vec::new();
        let frames = &self.spot.frames;
        for (k, frame) in frames.iter().enumerate() {
            if k > 0 {
                self.enter(k, &mut hops, &mut layers);
            }
            for (_, absent) in self.spot.not_mounted.iter().filter(|(at, _)| *at == k) {
                hops.push(self.absent_hop(frame, absent));
            }
            if let Some(via) = &frame.foreign {
                hops.push(self.foreign_hop(frame, via));
                layers.push(mount_layer(frame.at(self.site).host, via));
            }
            if let Some((table, mount)) = self.local_mount(frame) {
                let source = Name::from(shown(&mount.source));
                layers.push(Layer {
                    kind: LayerKind::Filesystem(mount.filesystem.clone(), source),
                    at: Place { path: mount.point.clone(), ..frame.at(self.site) },
                    access: mount.access(),
                    filesystem: mount.super_options.read_only(),
                    nested: None,
                });
                let facts = self.site.facts(&frame.at(self.site).host);
                let subvolume =
                    facts.and_then(|facts| facts.read_only_subvolume(mount, &frame.path));
                layers.extend(subvolume.map(|path| Layer {
                    kind: LayerKind::Subvolume,
                    at: Place { path, ..frame.at(self.site) },
                    access: Access::ReadOnly,
                    // It refuses before it looks at owners and modes (`btrfs_permission`).
                    filesystem: true,
                    nested: None,
                }));
                if self.site.runs_on(&frame.at(self.site).host).is_none() {
                    hops.extend(self.bind_hop(frame, table, mount));
                }
            }
        }
        for layer in &mut layers {
            if self.site.is_supposed_writable(layer) {
                layer.access = Access::ReadWrite;
            }
        }
        let here = self.ending(&hops);
        let here = self.outside_the_process(here, &mut hops);
        self.end_hops(&here, &mut hops);
        let takes_umask = |frame: &Frame| frame.via.mount().is_some_and(MountVia::takes_umask);
        Route {
            view: view.clone(),
            asked: AbsPath::new(written).unwrap_or_else(|_| frames[0].path.clone()),
            written: written.to_vec(),
            subject: Subject::clone(&frames[0].subject),
            hops,
            trail: self.spot.trail.to_vec(),
            layers,
            levels: self.levels(),
            not_mounted: self.spot.not_mounted.iter().map(|(_, m)| m.clone()).collect(),
            mapping: self.spot.mapping,
            passed: self.spot.passed,
            names_left: self.spot.names_left,
            umask_always: frames.iter().any(takes_umask),
            end: self.end.clone(),
            here,
        }
    }

    fn levels(&self) -> Vec<Level> {
        let mut through = None;
        let level = |frame: &Frame| {
            let network = frame.via.mount().map(|via| via.protocol);
            through = network.filter(|protocol| protocol.is_network()).or(through);
            Level {
                view: frame.level.clone(),
                path: frame.path.clone(),
                attached_at: match &frame.via {
                    Via::Top => None,
                    Via::Mapping(via) => Some(via.to.clone()),
                    Via::Mount(via) => Some(via.point.clone()),
                },
                mount: frame.mount,
                through,
                foreign: frame.foreign.as_ref().map(|via| via.point.clone()),
                subject: Subject::clone(&frame.subject),
            }
        };
        self.spot.frames.iter().map(level).collect()
    }

    fn local_mount(&self, frame: &Frame) -> Option<(&MountTable, &MountEntry)> {
        let View::Host(host) = &frame.level else { return None };
        let table = self.site.mounts(host)?;
        let mount = table.entry(frame.mount?)?;
        (mount.network().is_none()).then_some((table, mount))
    }

    /// Where the innermost frame ends, after a last bind.
    fn ending(&self, hops: &[Hop]) -> Place {
        let frame = self.spot.inner();
        match (hops.last(), &frame.level) {
            (Some(hop), View::Host(host)) if hop.kind == HopKind::Mount && hop.to.host == *host => {
                hop.to.clone()
            }
            _ => frame.at(self.site),
        }
    }

    /// What a process sees is told as its host has it, where a mount of the host shows that part of
    /// the filesystem.
    fn outside_the_process(&self, here: Place, hops: &mut Vec<Hop>) -> Place {
        let frame = self.spot.inner();
        let Some(host) = self.site.runs_on(&here.host) else { return here };
        let mount = self.site.mounts(&here.host).zip(frame.mount);
        let Some(mount) = mount.and_then(|(table, id)| table.entry(id)) else { return here };
        let shown =
            self.site.mounts(host).and_then(|table| table.shows(mount, &frame.path, |_, _| true));
        let (major, minor) = mount.device;
        let device = format!("device {major}:{minor}");
        let to = shown.map_or_else(|| here.clone(), |path| Place::new(host, path));
        let note = if to == here {
            format!(
                "{} has no mount that shows this part of {device}; only the process leads there",
                host
            )
        } else {
            format!("{} of {device}, mounted at {} in the process", shown_root(mount), mount.point)
        };
        hops.push(Hop {
            access: mount.access(),
            note,
            ..Hop::new(HopKind::Mapping, here, to.clone(), &frame.subject)
        });
        to
    }

    /// Where a way that came through a mapping goes on to a mount below it.
    fn nested_below(&self, k: usize, via: &MappingVia) -> Option<AbsPath> {
        let frame = &self.spot.frames[k];
        let View::Host(host) = &frame.level else { return None };
        let crossed = |_: &&u64| frame.mount != via.mount;
        let crossed = frame.mount.as_ref().filter(crossed);
        let observed =
            crossed.and_then(|id| Some(self.site.mounts(host)?.entry(*id)?.point.clone()));
        let further = self.spot.frames.get(k + 1).and_then(|next| next.via.mount());
        observed.or_else(|| Some(further.filter(|_| !via.at_mount)?.point.clone()))
    }

    fn enter(&self, k: usize, hops: &mut Vec<Hop>, layers: &mut Vec<Layer>) {
        let (outer, inner) = (&self.spot.frames[k - 1], &self.spot.frames[k]);
        match &inner.via {
            Via::Top => {}
            Via::Mapping(via) => {
                hops.push(self.mapping_hop(outer, inner, via));
                let nested = self.nested_below(k, via);
                layers.push(Layer {
                    kind: LayerKind::Mapping(via.part.clone()),
                    at: Place { path: via.to.clone(), ..outer.at(self.site) },
                    access: via.nested.filter(|_| nested.is_some()).unwrap_or(via.access),
                    filesystem: false,
                    nested: nested.filter(|_| via.nested.is_none()),
                });
            }
            Via::Mount(via) => {
                hops.push(self.mount_hop(outer, inner, via));
                layers.push(mount_layer(outer.at(self.site).host, via));
                self.offer(inner, via, hops, layers);
            }
        }
        hops.extend(inner.links.iter().cloned());
    }

    fn mapping_hop(&self, outer: &Frame, inner: &Frame, via: &MappingVia) -> Hop {
        let (from, to) = (outer.at(self.site), inner.at(self.site));
        Hop {
            access: via.access,
            changed_by: via.changed_by.clone(),
            evidence: if via.seen { Evidence::Observed } else { Evidence::Declared },
            note: format!("mapped to {} in line {} of the layout", via.to, via.line),
            ..Hop::new(HopKind::Mapping, from, to, &inner.subject)
        }
    }

    fn mount_hop(&self, outer: &Frame, inner: &Frame, via: &MountVia) -> Hop {
        let (sent, by) = match &via.sent {
            Some((sent, by)) => (sent, Some(by.clone())),
            None => (&*outer.subject, None),
        };
        let (from, to) = (outer.at(self.site), inner.at(self.site));
        Hop {
            access: via.access,
            changed_by: by,
            evidence: if via.observed { Evidence::Observed } else { Evidence::Declared },
            note: format!("{} {} mounted at {}", via.protocol.word(), via.source, via.point),
            ..Hop::new(HopKind::Mount, from, to, sent)
        }
    }

    /// What the server makes of whoever comes through a mount.
    fn offer(&self, inner: &Frame, via: &MountVia, hops: &mut Vec<Hop>, layers: &mut Vec<Layer>) {
        let Some(offer) = &via.offer else { return };
        let at = inner.at(self.site);
        let note = match &offer.share {
            None => offer.remark.clone(),
            Some(name) => {
                layers.push(Layer {
                    kind: LayerKind::Share(name.clone(), via.protocol),
                    at: at.clone(),
                    access: offer.access,
                    filesystem: false,
                    nested: None,
                });
                format!("share {name}, {}", offer.remark)
            }
        };
        hops.push(Hop {
            access: offer.access,
            changed_by: offer.changed_by.clone(),
            share: Some((via.protocol, offer.share.clone())),
            evidence: Evidence::Declared,
            note,
            ..Hop::new(HopKind::Share, at.clone(), at, &inner.subject)
        });
    }

    fn here_hop(&self, frame: &Frame, kind: HopKind) -> Hop {
        let at = frame.at(self.site);
        Hop::new(kind, at.clone(), at, &frame.subject)
    }

    fn absent_hop(&self, frame: &Frame, absent: &NotMounted) -> Hop {
        let by = if absent.origin.is_some() { "the layout" } else { "fstab" };
        let note = format!(
            "{} is not mounted at {}, though {by} says so: what lies beneath is seen",
            absent.source, absent.at.path
        );
        Hop { note, broken: true, ..self.here_hop(frame, HopKind::Mount) }
    }

    fn foreign_hop(&self, frame: &Frame, via: &MountVia) -> Hop {
        let evidence = if via.observed { Evidence::Observed } else { Evidence::Declared };
        let note = format!(
            "{} {} mounted at {}; its server is not in the layout, so this host's view of it \
             counts",
            via.protocol.word(),
            via.source,
            via.point
        );
        Hop { access: via.access, evidence, note, ..self.here_hop(frame, HopKind::Mount) }
    }

    fn bind_hop(&self, frame: &Frame, table: &MountTable, mount: &MountEntry) -> Option<Hop> {
        let mut hop = self.here_hop(frame, HopKind::Mount);
        hop.access = mount.access();
        if mount.source_deleted() {
            hop.note = format!("bind at {} of a folder that was removed since", mount.point);
            return Some(hop);
        }
        let source = table.bind_source(mount)?;
        hop.note = format!("bind of {source} at {}", mount.point);
        match table.source_of(mount, &frame.path) {
            Some(path) => hop.to.path = path,
            // Under its own path it can't be reached any more; it is still what the bind shows.
            None => hop.note += ", of which this part is covered by another mount in its own place",
        }
        Some(hop)
    }

    fn end_hops(&self, here: &Place, hops: &mut Vec<Hop>) {
        let frame = self.spot.inner();
        let base = |kind| Hop::new(kind, here.clone(), here.clone(), &frame.subject);
        if let Some(name) = &self.spot.volume {
            let note = format!("the engine's volume {name}");
            hops.push(Hop { evidence: Evidence::Declared, note, ..base(HopKind::Volume) });
            return;
        }
        if matches!(frame.level, View::Service(_)) {
            let is_made = *self.end == End::Reached;
            let note = match is_made {
                true => "folder that the engine makes for what is mapped below it".to_owned(),
                false => self.end.words(),
            };
            let evidence = Evidence::Declared;
            hops.push(Hop { evidence, note, broken: !is_made, ..base(HopKind::Entry) });
            return;
        }
        hops.extend(self.dataset_hop(here, base(HopKind::Dataset)));
        let last = self.spot.trail.last().filter(|_| *self.end == End::Reached);
        let entry = last.and_then(|last| Some((self.site.tree(&last.seen_on)?, last, last.node?)));
        let (evidence, note) = match (self.end, entry) {
            (End::Reached, Some((tree, last, node))) => {
                (Evidence::Observed, self.entry_note(tree, &last.seen_on, node))
            }
            (End::Reached, None) => {
                (Evidence::Declared, format!("{} has not been surveyed", here.host))
            }
            (End::Unseen { .. }, _) => (Evidence::Declared, self.end.words()),
            (end, _) => (Evidence::Observed, end.words()),
        };
        let broken = !matches!(self.end, End::Reached | End::Unseen { .. });
        let doubt = self.role_doubt(&here.host);
        hops.push(Hop { evidence, note, doubt, broken, ..base(HopKind::Entry) });
    }

    /// `folder 2775 mira:keepers with an ACL, 8 entries`.
    fn entry_note(&self, tree: &Tree, host: &Name, node: NodeId) -> String {
        let meta = tree.meta(node);
        let owner = self.site.owner_text(host, &meta);
        let acl = match tree.extras(node).map(|extras| (&extras.acl, &extras.nfs4_acl)) {
            Some((_, Some(_))) => " with an NFSv4 ACL",
            Some((Some(_), _)) => " with an ACL",
            _ => "",
        };
        let holds = match (meta.is_folder(), tree.listing(node), tree.children(node).len()) {
            (true, Listing::Complete, 0) => ", empty".to_owned(),
            (true, Listing::Complete, n) => format!(", {}", counted(n as u64, "entry")),
            _ => String::new(),
        };
        format!("{} {:04o} {owner}{acl}{holds}", meta.kind.word(), meta.mode)
    }

    /// Media on a host that is not there to hold any is worth a second look.
    fn role_doubt(&self, host: &Name) -> Option<String> {
        let declared = self.site.layout.host(host)?;
        let storage = declared.roles.contains(&HostRole::Storage);
        (!storage).then(|| format!("{host} is not a storage host"))
    }

    fn dataset_hop(&self, here: &Place, base: Hop) -> Option<Hop> {
        let declared = self.site.layout.host(&here.host).into_iter().flat_map(|h| &h.datasets);
        let declared = declared
            .filter(|dataset| here.path.within(&dataset.at))
            .max_by_key(|dataset| dataset.at.as_bytes().len());
        let mount = self.site.mounts(&here.host).and_then(|table| table.at(&here.path));
        if let Some(mount) = mount {
            let source = shown(&mount.source);
            let note = format!("{} {source} at {}", mount.filesystem, mount.point);
            return Some(Hop { access: mount.access(), note, ..base });
        }
        let dataset = declared?;
        let filesystem = dataset.filesystem.clone().unwrap_or_else(|| "dataset".into());
        let note = format!("{filesystem} {} at {}", dataset.name, dataset.at);
        Some(Hop { evidence: Evidence::Declared, note, ..base })
    }
}

fn shown_root(mount: &MountEntry) -> String {
    shown(&mount.root)
}

fn mount_layer(host: Name, via: &MountVia) -> Layer {
    Layer {
        kind: LayerKind::Mount(via.protocol),
        at: Place::new(host, &via.point),
        access: via.access,
        filesystem: false,
        nested: None,
    }
}

//! What a walk makes of where it came: hops for people, layers and a trail for the decision.

use super::{Frame, MountVia, Spot, Via};
use crate::facts::mounts::{MountEntry, MountTable};
use crate::facts::tree::{EntryKind, Listing};
use crate::layout::{HostRole, Mode};
use crate::path::AbsPath;
use crate::route::{End, Evidence, Hop, HopKind, Layer, LayerKind, NotMounted, Route, View};
use crate::site::Site;
use crate::text::{counted, shown};

/// Turns a walked spot into a route: hops for people, layers for the decision.
pub(super) struct Finish<'a> {
    pub(super) site: &'a Site,
    pub(super) spot: &'a Spot,
    pub(super) end: &'a End,
}

impl Finish<'_> {
    fn host(&self, frame: &Frame) -> String {
        match &frame.level {
            View::Host(name) => name.clone(),
            View::Service(name) => {
                self.site.layout.service(name).map(|s| s.host.clone()).unwrap_or_default()
            }
        }
    }

    fn local_mount(&self, frame: &Frame) -> Option<(&MountTable, &MountEntry)> {
        let View::Host(host) = &frame.level else { return None };
        let table = self.site.facts(host)?.mounts.as_ref()?;
        let mount = table.entries().iter().find(|entry| Some(entry.id) == frame.mount)?;
        (mount.network().is_none()).then_some((table, mount))
    }

    pub(super) fn route(&self, view: &View, asked: &AbsPath, links: Vec<Hop>) -> Route {
        let mut hops = links;
        let mut layers = Vec::new();
        let frames = &self.spot.frames;
        for (k, frame) in frames.iter().enumerate() {
            if k > 0 {
                self.enter_hops(&frames[k - 1], frame, &mut hops, &mut layers);
            }
            for (_, absent) in self.spot.not_mounted.iter().filter(|(at, _)| *at == k) {
                hops.push(self.absent_hop(frame, absent));
            }
            if let Some(via) = &frame.foreign {
                hops.push(self.foreign_hop(frame, via));
                layers.push(mount_layer(&self.host(frame), via));
            }
            if let Some((table, mount)) = self.local_mount(frame) {
                layers.push(Layer {
                    kind: LayerKind::Filesystem(mount.filesystem.clone(), shown(&mount.source)),
                    what: format!("the filesystem mounted at {}", mount.point),
                    host: self.host(frame),
                    path: mount.point.clone(),
                    mode: mount.mode(),
                    filesystem: mount.super_options.iter().any(|option| option == "ro"),
                });
                if let Some(source) = table.bind_source(mount) {
                    hops.push(self.bind_hop(frame, mount, &source));
                }
            }
        }
        for layer in &mut layers {
            if self.site.is_supposed_writable(layer) {
                layer.mode = Mode::ReadWrite;
            }
        }
        let here = self.ending(frames.last().expect("a spot has frames"), &hops);
        self.end_hops(&here, &mut hops);
        Route {
            view: view.clone(),
            asked: asked.clone(),
            subject: frames[0].subject.clone(),
            hops,
            trail: self.spot.trail.clone(),
            layers,
            levels: frames.iter().map(|f| (f.level.clone(), f.path.clone())).collect(),
            not_mounted: self.spot.not_mounted.iter().map(|(_, m)| m.clone()).collect(),
            mapping: self.spot.mapping,
            umask_always: frames
                .iter()
                .any(|frame| frame.via.mount().is_some_and(MountVia::takes_umask)),
            end: self.end.clone(),
            here,
        }
    }

    /// Where the innermost frame ends, after a last bind.
    fn ending(&self, frame: &Frame, hops: &[Hop]) -> (String, AbsPath) {
        match (hops.last(), &frame.level) {
            (Some(hop), View::Host(host))
                if hop.kind == HopKind::Mount && hop.host_out == *host =>
            {
                (host.clone(), hop.path_out.clone())
            }
            _ => (self.host(frame), frame.path.clone()),
        }
    }

    fn enter_hops(
        &self,
        outer: &Frame,
        inner: &Frame,
        hops: &mut Vec<Hop>,
        layers: &mut Vec<Layer>,
    ) {
        let hop = |kind, mode, evidence, note| Hop {
            kind,
            host: self.host(outer),
            path_in: outer.path.clone(),
            path_out: inner.path.clone(),
            host_out: self.host(inner),
            mode,
            subject: inner.subject.clone(),
            changed_by: None,
            share: None,
            evidence,
            note,
            doubt: None,
            broken: false,
        };
        match &inner.via {
            Via::Top => {}
            Via::Mapping { to, mode, line, seen, changed_by } => {
                let note = format!("mapped to {to} in line {line} of the layout");
                let own = format!("the mapping to {to}");
                layers.push(Layer {
                    kind: LayerKind::Mapping(*line),
                    what: own,
                    host: self.host(outer),
                    path: to.clone(),
                    mode: *mode,
                    filesystem: false,
                });
                let evidence = if *seen { Evidence::Observed } else { Evidence::Declared };
                let changed_by = changed_by.clone();
                hops.push(Hop { changed_by, ..hop(HopKind::Mapping, *mode, evidence, note) });
            }
            Via::Mount(via) => {
                let evidence = if via.observed { Evidence::Observed } else { Evidence::Declared };
                let note =
                    format!("{} {} mounted at {}", via.protocol.word(), via.source, via.point);
                layers.push(mount_layer(&self.host(outer), via));
                let (sent, by) = match &via.sent {
                    Some((sent, by)) => (sent, Some(by.clone())),
                    None => (&outer.subject, None),
                };
                hops.push(Hop {
                    subject: sent.clone(),
                    changed_by: by,
                    ..hop(HopKind::Mount, via.mode, evidence, note)
                });
                if let Some((name, mode, remark)) = &via.share {
                    let server = self.host(inner);
                    let note = if name.is_empty() {
                        remark.clone()
                    } else {
                        layers.push(Layer {
                            kind: LayerKind::Share(name.clone(), via.protocol),
                            what: format!("the share {name}"),
                            host: server.clone(),
                            path: inner.path.clone(),
                            mode: *mode,
                            filesystem: false,
                        });
                        format!("share {name}, {remark}")
                    };
                    hops.push(Hop {
                        host: server,
                        path_in: inner.path.clone(),
                        changed_by: via.changed_by.clone(),
                        share: Some((name.clone(), via.protocol)),
                        ..hop(HopKind::Share, *mode, Evidence::Declared, note)
                    });
                }
            }
        }
        hops.extend(inner.links.iter().cloned());
    }

    fn here_hop(&self, frame: &Frame, kind: HopKind) -> Hop {
        Hop {
            kind,
            host: self.host(frame),
            path_in: frame.path.clone(),
            path_out: frame.path.clone(),
            host_out: self.host(frame),
            mode: Mode::ReadWrite,
            subject: frame.subject.clone(),
            changed_by: None,
            share: None,
            evidence: Evidence::Observed,
            note: String::new(),
            doubt: None,
            broken: false,
        }
    }

    fn absent_hop(&self, frame: &Frame, absent: &NotMounted) -> Hop {
        let by = if absent.origin.is_some() { "the layout" } else { "fstab" };
        let note = format!(
            "{} is not mounted at {}, though {by} says so: what lies beneath is seen",
            shown(absent.source.as_bytes()),
            absent.point
        );
        Hop { note, broken: true, ..self.here_hop(frame, HopKind::Mount) }
    }

    fn foreign_hop(&self, frame: &Frame, via: &MountVia) -> Hop {
        let evidence = if via.observed { Evidence::Observed } else { Evidence::Declared };
        let note = format!(
            "{} {} mounted at {}; its server is not in the layout, so this host's view of it counts",
            via.protocol.word(),
            via.source,
            via.point
        );
        Hop { mode: via.mode, evidence, note, ..self.here_hop(frame, HopKind::Mount) }
    }

    fn bind_hop(&self, frame: &Frame, mount: &MountEntry, source: &AbsPath) -> Hop {
        let rest = frame.path.below(&mount.point).unwrap_or_default();
        let mut hop = self.here_hop(frame, HopKind::Mount);
        hop.path_out = source.join(rest);
        hop.mode = mount.mode();
        hop.note = format!("bind of {source} at {}", mount.point);
        hop
    }

    fn end_hops(&self, here: &(String, AbsPath), hops: &mut Vec<Hop>) {
        let (host, path) = here;
        let frame = self.spot.frames.last().expect("a spot has frames");
        let base = Hop {
            path_in: path.clone(),
            path_out: path.clone(),
            ..self.here_hop(frame, HopKind::Entry)
        };
        if let Some(name) = &self.spot.volume {
            let note = format!("the engine's volume {}", shown(name.as_bytes()));
            hops.push(Hop { kind: HopKind::Volume, evidence: Evidence::Declared, note, ..base });
            return;
        }
        if matches!(frame.level, View::Service(_)) {
            let note = self.end.words();
            hops.push(Hop { evidence: Evidence::Declared, note, broken: true, ..base });
            return;
        }
        hops.extend(self.dataset_hop(host, path, &base));
        let step = self.spot.trail.last().filter(|_| *self.end == End::Reached);
        let entry = step.and_then(|step| Some((self.site.tree(&step.seen_on)?, step, step.node?)));
        let (evidence, note) = match (self.end, entry) {
            (End::Reached, Some((tree, step, node))) => {
                let meta = tree.meta(node);
                let owner = self.site.owner_text(&step.seen_on, &meta);
                let extras = tree.extras(node);
                let acl = match extras.map(|extras| (&extras.acl, &extras.nfs4_acl)) {
                    Some((_, Some(_))) => " with an NFSv4 ACL",
                    Some((Some(_), _)) => " with an ACL",
                    _ => "",
                };
                let holds = match (meta.kind, tree.listing(node), tree.children(node).len()) {
                    (EntryKind::Folder, Listing::Complete, 0) => ", empty".to_owned(),
                    (EntryKind::Folder, Listing::Complete, n) => {
                        format!(", {}", counted(n as u64, "entry"))
                    }
                    _ => String::new(),
                };
                let kind = meta.kind.word();
                let note = format!("{kind} {:04o} {owner}{acl}{holds}", meta.mode);
                (Evidence::Observed, note)
            }
            (End::Reached, None) => (Evidence::Declared, format!("nobody has looked at {host}")),
            (End::Unseen { .. }, _) => (Evidence::Declared, self.end.words()),
            (end, _) => (Evidence::Observed, end.words()),
        };
        let broken = !matches!(self.end, End::Reached | End::Unseen { .. });
        let doubt = self.role_doubt(host);
        hops.push(Hop { evidence, note, doubt, broken, ..base });
    }

    /// Media on a host that is not there to hold any is worth a second look.
    fn role_doubt(&self, host: &str) -> Option<String> {
        let declared = self.site.layout.host(host)?;
        let storage = declared.roles.contains(&HostRole::Storage);
        (!storage).then(|| format!("{host} is not a storage host"))
    }

    fn dataset_hop(&self, host: &str, path: &AbsPath, base: &Hop) -> Option<Hop> {
        let declared = self.site.layout.host(host).into_iter().flat_map(|host| &host.datasets);
        let declared = declared
            .filter(|dataset| path.within(&dataset.at))
            .max_by_key(|dataset| dataset.at.as_bytes().len());
        let mount =
            self.site.facts(host).and_then(|facts| facts.mounts.as_ref()).and_then(|t| t.at(path));
        let (evidence, mode, note) = match (mount, declared) {
            (Some(mount), _) => {
                let source = shown(&mount.source);
                let note = format!("{} {source} at {}", mount.filesystem, mount.point);
                (Evidence::Observed, mount.mode(), note)
            }
            (None, Some(dataset)) => {
                let filesystem = dataset.filesystem.as_deref().unwrap_or("dataset");
                let note = format!("{filesystem} {} at {}", dataset.name, dataset.at);
                (Evidence::Declared, Mode::ReadWrite, note)
            }
            (None, None) => return None,
        };
        Some(Hop { kind: HopKind::Dataset, evidence, mode, note, ..base.clone() })
    }
}

fn mount_layer(host: &str, via: &MountVia) -> Layer {
    Layer {
        kind: LayerKind::Mount(via.protocol),
        what: format!("the {} mount at {}", via.protocol.word(), via.point),
        host: host.to_owned(),
        path: via.point.clone(),
        mode: via.mode,
        filesystem: false,
    }
}

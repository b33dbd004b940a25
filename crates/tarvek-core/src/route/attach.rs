//! What is attached at a place of a walk: mappings, observed and declared mounts, and the servers
//! behind them.

use std::sync::Arc;

use crate::facts::mounts::{MountEntry, network_protocol};
use crate::facts::tree::Lookup;
use crate::kernel::subject::Subject;
use crate::layout::mapping::{MapSource, Mapping};
use crate::layout::mount::Mount;
use crate::route::arrive::{outside_of, smb_user};
use crate::route::end::End;
use crate::route::hops::{View, Waypoint};
use crate::route::source::Remote;
use crate::route::spot::{Entrance, Last, MappingVia, MountVia, Via, WalkPosition};
use crate::route::walk::{Walked, Walker};
use crate::route::{nfs, smb};
use crate::words::name::Name;
use crate::words::options::MountOptions;
use crate::words::part::{MappedInto, Part};
use crate::words::place::Place;
use crate::words::terms::{Access, Os, Protocol};
use crate::words::text::shown;

impl Walker<'_> {
    pub(super) fn attach_mapping(
        &self,
        mut spot: WalkPosition,
        k: usize,
        index: usize,
        mapping: &Mapping,
    ) -> Walked {
        spot.cut(k);
        spot.volume = None;
        // The folders of an outer mapping are searched. Those that a system container keeps for
        // itself let through unless they were seen to do otherwise.
        if let View::Host(container) = &spot.frames[k].level {
            let own = |above: &Waypoint| above.seen_on == *container && above.node.is_none();
            spot.trail.retain(|above| !own(above));
        }
        if k == 0 && matches!(spot.frames[0].level, View::Service(_)) {
            spot.mapping = Some(index);
        }
        let outer = &spot.frames[k];
        let host = match &outer.level {
            View::Service(_) => outer.level.machine(self.site),
            // The folders of a system container come from the host that it is inside of.
            View::Host(name) => {
                let inside = self.site.layout.host(name).and_then(|host| host.inside.clone());
                inside.unwrap_or_else(|| name.clone())
            }
        };
        let (subject, changed_by) =
            match outside_of(self.site, &outer.level, &host, &outer.subject, mapping) {
                Ok(outside) => outside,
                Err(why) => {
                    let at = Place::new(&host, &outer.path);
                    return (spot, End::Unmapped { at, why });
                }
            };
        match &mapping.source {
            MapSource::Folder(from) => {
                let Ok(from) = &from.path else {
                    return (spot, End::Uncovered { mapped: Vec::new() });
                };
                let via = Via::Mapping(Arc::new(MappingVia {
                    to: outer.path.clone(),
                    access: mapping.access,
                    nested: mapping.nested.filter(|_| mapping.access == Access::ReadOnly),
                    part: part_of(&outer.level, mapping),
                    line: mapping.origin.line,
                    seen: false,
                    mount: None,
                    at_mount: false,
                    changed_by,
                }));
                self.append(spot, &host, from.as_bytes(), &subject, via, Entrance::Last)
            }
            MapSource::Volume(name) => {
                spot.volume = Some(name.clone());
                (spot, End::Reached)
            }
            MapSource::Share(volume) => {
                let Some(remote) = Remote::of_engine(self.site, volume) else {
                    let at = Place::new(&host, &outer.path);
                    let source = self.site.layout.source_name(&volume.from);
                    let why = Some(format!("{source} is no source of {}", volume.protocol.word()));
                    return (spot, End::Unseen { at, why });
                };
                let read_only = mapping.access == Access::ReadOnly || volume.options.read_only();
                let access = if read_only { Access::ReadOnly } else { Access::ReadWrite };
                let source = self.site.layout.source_name(&volume.from);
                let below = volume.below.iter().map(|below| format!("/{below}")).next();
                let source = format!("{source}{}", below.unwrap_or_default());
                let mount = MountVia {
                    user: volume.user.clone(),
                    sent: changed_by.map(|by| (subject.clone(), by)),
                    ..MountVia::new(volume.protocol, &outer.path, source, access, &volume.options)
                };
                self.attach_remote(spot, k, &host, remote, mount)
            }
        }
    }

    pub(super) fn attach_observed(
        &self,
        mut spot: WalkPosition,
        k: usize,
        host: &Name,
        mount: &MountEntry,
    ) -> Walked {
        if let Some(end) = self.hidden_child(&spot, k, host) {
            return (spot, end);
        }
        spot.cut(k);
        spot.frames[k].mount = Some(mount.id);
        if let Some(protocol) = mount.network() {
            let source = shown(&mount.source);
            let options = &mount.super_options;
            let via = MountVia {
                observed: true,
                ..MountVia::new(protocol, &mount.point, source, mount.access(), options)
            };
            match Remote::parse(self.site, &mount.source, protocol) {
                Some(remote) if remote.is_known() => {
                    return self.attach_remote(spot, k, host, remote, via);
                }
                _ => spot.frames[k].foreign = Some(Arc::new(via)),
            }
        }
        let (mut spot, end) = self.look(spot);
        if let (End::Reached, Some(last)) = (&end, spot.trail.last_mut()) {
            last.attached = true;
            let covers_itself =
                self.site.mounts(host).is_some_and(|table| table.covers_itself(mount));
            last.covers = last.node.filter(|_| covers_itself).map(|node| (host.clone(), node));
        }
        // What a bind shows may have been looked at under its source only.
        if let End::Unseen { .. } = end
            && let Some(source) = self.site.mounts(host).and_then(|table| table.bind_source(mount))
            && let Some(tree) = self.site.tree(host)
            && let Lookup::Found(node) = tree.find(&source)
        {
            spot.frames[k].node = Some(node);
            let at = Place::new(host, source);
            let waypoint = Waypoint { at, ..self.waypoint(&spot, true) };
            spot.trail.push(waypoint);
            return (spot, End::Reached);
        }
        (spot, end)
    }

    /// A dataset below an NFS export that is neither exported itself nor included by `crossmnt`.
    fn hidden_child(&self, spot: &WalkPosition, k: usize, host: &Name) -> Option<End> {
        let frame = &spot.frames[k];
        let via = frame.via.mount().filter(|via| via.protocol == Protocol::Nfs)?;
        let share = self.site.layout.share(via.share()?)?;
        let crossed = share.nfs.iter().any(|export| export.crossmnt);
        let exported =
            self.site.layout.shares.iter().any(|other| {
                other.host == *host && !other.nfs.is_empty() && other.path == frame.path
            });
        (!crossed && !exported).then(|| End::HiddenChild {
            at: Place::new(host, &frame.path),
            share: share.name.clone(),
        })
    }

    /// Attaches what the layout declares at the path of a frame, where no mount table says
    /// otherwise.
    pub(super) fn attach_declared(
        &self,
        spot: &WalkPosition,
        k: usize,
        host: &Name,
        on_demand: bool,
    ) -> Option<Walked> {
        let path = &spot.frames[k].path;
        let declared = self.site.layout.mount_at(host, path);
        let datasets = self.site.layout.host(host).map_or(&[][..], |host| &host.datasets);
        if declared.is_none()
            && datasets.iter().any(|dataset| dataset.at == *path)
            && let Some(end) = self.hidden_child(spot, k, host)
        {
            return Some((spot.clone(), end));
        }
        let (protocol, source, remote, options) = if let Some(mount) = declared {
            let source = self.site.layout.source_name(&mount.from);
            (mount.protocol, source, Remote::of_mount(self.site, mount), &mount.options)
        } else {
            let line = self.site.fstab_at(host, path)?;
            let protocol = network_protocol(&line.filesystem)?;
            let remote = Remote::parse(self.site, line.source.raw().as_bytes(), protocol);
            (protocol, &line.source, remote, &line.options)
        };
        let mut spot = spot.clone();
        spot.cut(k);
        let note = if on_demand { " (mounted on demand)" } else { "" };
        let shown = format!("{source}{note}");
        let via = MountVia {
            user: declared.and_then(|mount| mount.user.clone()),
            ..MountVia::new(protocol, path, shown, options.access(), options)
        };
        match (protocol, remote) {
            (_, Some(remote)) if remote.is_known() => {
                Some(self.attach_remote(spot, k, host, remote, via))
            }
            (Protocol::Bind, _) => {
                let subject = spot.frames[k].subject.clone();
                let (from, via) = (source.raw().as_bytes(), Via::Mount(Arc::new(via)));
                Some(self.append(spot, host, from, &subject, via, Entrance::Last))
            }
            (Protocol::Disk, _) => None,
            _ => {
                spot.frames[k].foreign = Some(Arc::new(via));
                Some(self.look(spot))
            }
        }
    }

    /// Attaches the share that a Windows client names with its server, `\\server\share`: no mount
    /// is needed for that.
    pub(super) fn attach_named_server(
        &self,
        spot: &WalkPosition,
        k: usize,
        host: &Name,
    ) -> Option<Walked> {
        let path = &spot.frames[k].path;
        let source = path.as_smb_source().filter(|_| self.site.os(host) == Os::Windows)?;
        let declared = self.site.layout.mount_at(host, path).is_some();
        if declared || path.components().count() != 2 {
            return None;
        }
        let mut spot = spot.clone();
        spot.cut(k);
        let options = MountOptions::default();
        let remote = Remote::parse(self.site, &source, Protocol::Smb)?;
        // Who is logged on to the server by one mount is so by all.
        let same = |mount: &&Mount| {
            mount.host == *host
                && Remote::of_mount(self.site, mount).is_some_and(|to| to.host == remote.host)
        };
        let user = self.site.layout.mounts.iter().find(same).and_then(|mount| mount.user.clone());
        let via = MountVia {
            user,
            ..MountVia::new(Protocol::Smb, path, shown(&source), Access::ReadWrite, &options)
        };
        Some(self.attach_remote(spot, k, host, remote, via))
    }

    /// Steps from a mount point onto a server of the site.
    fn attach_remote(
        &self,
        mut spot: WalkPosition,
        k: usize,
        client: &Name,
        remote: Remote,
        mut via: MountVia,
    ) -> Walked {
        let (Some(server), Some(path)) = (remote.host, remote.path) else {
            let at = spot.inner().at(self.site);
            let why = Some(format!("{} is not in the layout", remote.server));
            return (spot, End::Unseen { at, why });
        };
        let local = match &via.sent {
            Some((shifted, _)) => shifted.clone(),
            None => Subject::clone(&spot.frames[k].subject),
        };
        let share = remote.share.as_ref().and_then(|name| self.site.layout.share(name));
        let arrival = match remote.protocol {
            Protocol::Nfs => Ok(nfs::arrive(self.site, client, &server, share, &local, &mut via)),
            _ => {
                let user = smb_user(self.site, &spot.frames[k].level, &via).cloned();
                let user = user.as_ref();
                smb::arrive(self.site, client, &server, share, user, &local, &mut via)
            }
        };
        spot.frames.truncate(k + 1);
        let arrival = match arrival {
            Ok(arrival) => arrival,
            Err(smb::NotAdmitted { why, user }) => {
                let (at, share) = (Place { host: server, path }, remote.share);
                return (spot, End::NotAdmitted { at, share, user, why });
            }
        };
        via.offer = Some(arrival.offer);
        // An NFS server does not check the folders above an export; an SMB server does check those
        // above a share.
        let entrance = if via.protocol == Protocol::Smb { Entrance::All } else { Entrance::Last };
        let via = Via::Mount(Arc::new(via));
        self.append(spot, &server, path.as_bytes(), &arrival.subject, via, entrance)
    }

    /// Appends the frames of a path on a host, resolved there, to a spot.
    fn append(
        &self,
        mut spot: WalkPosition,
        host: &Name,
        path: &[u8],
        subject: &Subject,
        via: Via,
        entrance: Entrance,
    ) -> Walked {
        let mut links = Vec::new();
        let walked = self
            .inside(|| self.walk(self.host_top(host, subject), path, Last::Followed, &mut links));
        let Some((mut inner, end)) = walked else {
            let at = spot.inner().at(self.site);
            let why = "what is declared to be attached there leads into itself without end";
            return (spot, End::Unseen { at, why: Some(why.to_owned()) });
        };
        let (seen, mount) = (inner.frames[0].node.is_some(), inner.frames[0].mount);
        let at_mount = inner.frames.len() > 1;
        inner.frames[0].via = match via {
            Via::Mapping(mapping) => {
                let mapping = Arc::unwrap_or_clone(mapping);
                Via::Mapping(Arc::new(MappingVia { seen, mount, at_mount, ..mapping }))
            }
            via => via,
        };
        inner.frames[0].links = links.into();
        let depth = spot.frames.len();
        spot.frames.append(&mut inner.frames);
        spot.not_mounted.extend(inner.not_mounted.into_iter().map(|(k, m)| (k + depth, m)));
        // The folder that is attached is seen through all that is on the way to it, those above it
        // only by its own host.
        let gates = spot.gates();
        // A way that breaks off on the far side was searched there by whoever attached it.
        let reached = matches!(end, End::Reached).then(|| inner.trail.pop()).flatten();
        let last = reached.map(|last| Waypoint { attached: true, gates, ..last });
        match entrance {
            Entrance::Last => {}
            Entrance::All => spot.trail.append(&inner.trail),
        }
        last.into_iter().for_each(|last| spot.trail.push(last));
        (spot, end)
    }
}

/// A mapping into a view, as the layout names it.
fn part_of(view: &View, mapping: &Mapping) -> Part {
    let of = match view {
        View::Service(name) => MappedInto::Service(name.clone()),
        View::Host(name) => MappedInto::Host(name.clone()),
    };
    Part::Mapping { of, to: mapping.to.written.clone() }
}

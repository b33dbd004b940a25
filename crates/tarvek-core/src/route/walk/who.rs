//! Who arrives: what each kind of hop makes of whoever asks.

use std::sync::Arc;

use super::{Frame, MountVia, Outside, Spot, Unmapped, Walker};
use crate::identity::{IdMap, Realm, Subject};
use crate::layout::{Mapping, Mode, Share};
use crate::route::View;
use crate::route::source::export_for;
use crate::smb::{Gate, Login, Session, connect};
use crate::text::shown;

/// Who arrives on a server through a mount, and how he may use the share.
pub(super) struct Arrival {
    pub(super) subject: Subject,
    pub(super) mode: Mode,
    /// What is worth knowing of the share, in words.
    pub(super) remark: String,
}

impl<'a> Walker<'a> {
    /// Who asks, in the terms in which the owners of what is seen are given: where ids are shifted between the filesystem and
    /// the eye, those that are not mapped look like nobody's.
    pub(super) fn as_seen(&self, seer: &Frame, subject: &Subject) -> Subject {
        let View::Host(host) = &seer.level else { return subject.clone() };
        let idmap = self.site.layout.host(host).map_or(&[][..], |host| host.idmap.as_slice());
        if !idmap.is_empty() {
            return IdMap::both(idmap.to_vec()).from_inside(subject);
        }
        let mount = self
            .table(host)
            .and_then(|table| table.entries().iter().find(|entry| Some(entry.id) == seer.mount));
        if mount.is_some_and(|mount| mount.options.iter().any(|option| option == "idmapped")) {
            return Subject {
                realm: Some(Arc::new(Realm::displayed_on_a_mount())),
                ..subject.clone()
            };
        }
        subject.clone()
    }

    /// Who a mapping makes of those inside: the user namespace of the service, or of the system container, shifts their ids.
    pub(super) fn outside_of(
        &self,
        level: &View,
        subject: &Subject,
        mapping: &Mapping,
    ) -> Result<Outside, Unmapped> {
        let (map, of) = match level {
            View::Service(name) => {
                let Some(service) = self.site.layout.service(name) else {
                    return Ok((subject.clone(), None));
                };
                let of = format!("the user namespace of {}", shown(name.as_bytes()));
                match self.site.namespace_of(service) {
                    Ok(map) => (map, of),
                    Err(why) => {
                        return Ok((
                            Subject::unknown(format!("{of} is not known: {why}")),
                            Some(of),
                        ));
                    }
                }
            }
            View::Host(name) => {
                let idmap =
                    self.site.layout.host(name).map_or(&[][..], |host| host.idmap.as_slice());
                let map = (!idmap.is_empty()).then(|| IdMap::both(idmap.to_vec()));
                (map, format!("the user namespace of {}", shown(name.as_bytes())))
            }
        };
        let Some(map) = map else { return Ok((subject.clone(), None)) };
        match map.shift(subject) {
            Err(id) => Err((of, id)),
            Ok(_) if mapping.idmap => {
                let by = format!("{of}, to which the mapping is idmapped");
                Ok((map.on_idmapped_mount(subject), Some(by)))
            }
            Ok(shifted) => Ok((shifted, Some(of))),
        }
    }

    /// The SMB user that the layout names for a mount: its own, or that of the mount declared at the same place.
    pub(super) fn declared_user<'v>(
        &self,
        spot: &Spot,
        k: usize,
        via: &'v MountVia,
    ) -> Option<&'v str>
    where
        'a: 'v,
    {
        let View::Host(host) = &spot.frames[k].level else { return via.user.as_deref() };
        let declared =
            self.site.layout.mounts.iter().find(|m| m.host == *host && m.at == via.point);
        via.user.as_deref().or_else(|| declared.and_then(|mount| mount.user.as_deref()))
    }

    /// Over NFS: the numbers travel, at most 16 further groups with them, and the export may replace them (`exports(5)`).
    pub(super) fn over_nfs(
        &self,
        client: &str,
        server: &str,
        share: Option<&Share>,
        local: &Subject,
        via: &mut MountVia,
    ) -> Arrival {
        let mut sent = local.over_auth_sys();
        if self.site.layout.host(server).is_some_and(|host| host.manage_gids) {
            // The server looks the groups up itself, the account's own among them, whatever the credential carries
            // (getgrouplist(3)).
            let account = self.site.accounts(server).find(|account| account.uid == sent.uid);
            let found = account.map(|account| self.site.login(server, account));
            let groups = found.into_iter().flat_map(|login| {
                let own = login.gid;
                login.groups.into_iter().chain([own])
            });
            let looked_up = Subject::new(sent.uid, sent.gid, groups);
            sent = Subject { doubt: sent.doubt.clone(), ..looked_up };
            if sent.groups != local.groups {
                via.sent = Some((sent.clone(), format!("{server} looks the groups up itself")));
            }
        } else if sent.groups != local.groups {
            let (some, all) = (sent.groups.len(), local.groups.len());
            let by = format!("AUTH_SYS carries only {some} of the {all} further groups");
            via.sent = Some((sent.clone(), by));
        }
        let Some(share) = share else {
            let remark = "the layout declares no share for it".to_owned();
            return Arrival { subject: sent, mode: Mode::ReadWrite, remark };
        };
        let Some(export) = export_for(self.site, share, client) else {
            let remark = format!("no NFS export of it names {client}");
            return Arrival { subject: sent, mode: Mode::ReadWrite, remark };
        };
        let subject = sent.over_nfs(export);
        if subject != sent {
            via.changed_by = Some(format!("{} of the export", export.squash.word()));
        }
        let mode = export.access;
        let remark = format!("exported {} to {}", mode.word(), shown(export.clients.as_bytes()));
        Arrival { subject, mode, remark }
    }

    /// Over SMB: the server sees the mount's user, whoever asks on the client, and the client checks by itself
    /// (`mount.cifs(8)`).
    ///
    /// # Errors
    /// Why the server refuses the session.
    pub(super) fn over_smb(
        &self,
        client: &str,
        server: &str,
        share: Option<&Share>,
        user: Option<&str>,
        local: &Subject,
        via: &mut MountVia,
    ) -> Result<Arrival, String> {
        let os = self.site.layout.host(client).map(|host| host.os).unwrap_or_default();
        via.gate = Gate::of_mount(client, os, &via.point, &via.options, local);
        let Some(offer) = share.and_then(|share| share.smb.as_ref()) else {
            return Ok(Arrival {
                subject: Subject::unknown("no share of the layout says who acts on the server"),
                mode: Mode::ReadWrite,
                remark: "the layout declares no share for it".to_owned(),
            });
        };
        let login = Login::of_mount(user, &via.options);
        let remark = match &login {
            Login::As(user) => format!("offered over SMB to {}", shown(user.as_bytes())),
            Login::Anonymous => "offered over SMB to guests".to_owned(),
            Login::Unsaid => "offered over SMB".to_owned(),
        };
        match connect(self.site, server, offer, &login) {
            Session::Open { subject, mode, by } => {
                via.changed_by = Some(by);
                Ok(Arrival { subject, mode, remark })
            }
            Session::Refused(why) => Err(why),
        }
    }
}

//! What has to change besides the layout: a layout only describes what containers, servers and tables really have.

use crate::layout::service::Service;
use crate::rules::case::Case;
use crate::words::name::Name;
use crate::words::remedy::Step;

/// Of a place that a service uses: its own settings name it too.
pub(super) fn in_service(case: &Case) -> Step {
    let service = &case.service;
    let words = format!("set it as the {} in {} as well", case.what(), service.name);
    Step::on(&service.host, words)
}

/// Of a mapping: the container has it.
pub(super) fn in_container(service: &Service) -> Step {
    let words = format!("make the container of {} anew with that mapping", service.name);
    Step::on(&service.host, words)
}

/// Of whom a service runs as.
pub(super) fn in_account(service: &Service) -> Step {
    let words = match service.map {
        Some(_) => format!(
            "make the container of {} anew as that account (with an image that takes it from the environment: PUID and PGID)",
            service.name
        ),
        None => format!("run {} as that account, and give it what belongs to it", service.name),
    };
    Step::on(&service.host, words)
}

/// Of an NFS export.
pub(super) fn in_exports(host: &Name) -> Step {
    Step::on(host, "put what `tarvek emit exports` writes in place, and run exportfs -ra")
}

/// Of an SMB share.
pub(super) fn in_smb(host: &Name) -> Step {
    let words = "put what `tarvek emit smb` writes in place, and run smbcontrol smbd reload-config";
    Step::on(host, words)
}

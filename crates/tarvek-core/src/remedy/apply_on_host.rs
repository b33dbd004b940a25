//! What has to change on hosts besides the layout, which only describes what containers, servers
//! and tables really have.

use crate::facts::mounts::MountEntry;
use crate::layout::service::Service;
use crate::words::name::Name;
use crate::words::remedy::{Command, Step};
use crate::words::terms::Access;

/// Of a place that a service uses: its own settings name it too.
pub(crate) fn set_in_service(service: &Service, what: &str) -> Step {
    Step::on(&service.host, format!("set it as the {what} in {} as well", service.name))
}

/// Of a mapping: the container has it.
pub(crate) fn recreate_container(service: &Service) -> Step {
    let words = format!("recreate {}'s container with this mapping", service.name);
    Step::on(&service.host, words)
}

/// Of whom a service runs as.
pub(crate) fn run_as_account(service: &Service) -> Step {
    let words = match service.map {
        Some(_) => format!(
            "recreate {}'s container as that account (with an image that takes it from the \
             environment: PUID and PGID)",
            service.name
        ),
        None => format!("run {} as that account, and give it what belongs to it", service.name),
    };
    Step::on(&service.host, words)
}

/// Of a setting that a service reads when it starts.
pub(crate) fn set_and_restart(service: &Service) -> Step {
    Step::on(&service.host, format!("set it in {} as well, and restart it", service.name))
}

/// Of an NFS export.
pub(crate) fn reload_exports(host: &Name) -> Step {
    Step::on(host, "put what `tarvek emit exports` writes in place, and run exportfs -ra")
}

/// Of an SMB share.
pub(crate) fn reload_smb(host: &Name) -> Step {
    let words = "put what `tarvek emit smb` writes in place, and run smbcontrol smbd reload-config";
    Step::on(host, words)
}

/// What gives everything on a mount whose options say the modes other ones: `dmask` for folders,
/// `fmask` for files (mount(8), "Mount options for fat"). It is mounted again with `access`.
pub(crate) fn mount_with_masks(
    host: &Name,
    mount: &MountEntry,
    access: Access,
    (dmask, fmask): (u16, u16),
) -> Vec<Step> {
    // A driver in user space shows the kernel neither its name nor its masks.
    if mount.filesystem == "fuseblk" {
        let words = format!(
            "mount {} again with a dmask and an fmask that allow it; chmod and setfacl do nothing \
             there",
            mount.point
        );
        return vec![Step::on(host, words)];
    }
    let masks = format!("dmask={dmask:04o},fmask={fmask:04o}");
    let others = mount.options_but(&["ro", "rw", "umask", "dmask", "fmask"]);
    let options = [access.word(), &others, &masks];
    let options = options.into_iter().filter(|option| !option.is_empty()).collect::<Vec<_>>();
    let options = options.join(",");
    let again = Command::new("mount -t").arg(mount.filesystem.raw()).arg("-o").arg(options);
    vec![
        Step::run(host, Command::new("umount").arg(&mount.point)),
        Step::run(host, again.arg(&mount.source[..]).arg(&mount.point)),
        Step::on(host, format!("write {masks} where {} is mounted at boot", mount.point)),
    ]
}

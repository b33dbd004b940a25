//! Stanzas for an SMB server (`smb.conf(5)`).

use tarvek_core::layout::host::Host;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::offer::SmbOffer;

use super::piece::{Emitted, Piece, Source, say, text};
use super::quote::{smb_name, smb_pattern, smb_value};

/// The SMB shares of a storage host.
pub fn smb(layout: &Layout, host: &Host, file: &str) -> Emitted {
    let source = Source { file };
    let mut out = String::new();
    for share in layout.shares.iter().filter(|share| share.host == host.name) {
        let Some(offer) = &share.smb else { continue };
        if !out.is_empty() {
            out.push('\n');
        }
        out += &source.of(share.origin, &format!("share {}", share.name));
        out += &format!("[{}]\n", share.name.raw());
        let path = text(&share.path);
        let path = say(share.origin, &path, smb_value(&path))?;
        let bin = offer.recycle_folder.as_ref().map(Name::raw);
        let bin = bin.map(|bin| say(share.origin, bin, smb_pattern(bin))).transpose()?;
        for (name, value) in parameters(path, bin, offer) {
            out += &format!("    {name} = {value}\n");
        }
    }
    if out.is_empty() {
        return Ok(Vec::new());
    }
    let note = "# Include these in smb.conf. Everybody named here needs a password of this server: \
                smbpasswd -a NAME\n\n";
    Ok(vec![Piece::new("shares.smb.conf", note.to_owned() + &out)])
}

fn parameters(path: String, bin: Option<String>, offer: &SmbOffer) -> Vec<(&'static str, String)> {
    let yes = |on: bool| if on { "yes" } else { "no" }.to_owned();
    let mut all =
        vec![("path", path), ("guest ok", yes(offer.guests)), ("read only", yes(!offer.writable))];
    if offer.guest_only {
        all.push(("guest only", yes(true)));
    }
    for (name, list) in [
        ("valid users", &offer.only),
        ("invalid users", &offer.deny),
        ("read list", &offer.read),
        ("write list", &offer.write),
        ("admin users", &offer.admins),
    ] {
        if !list.is_empty() {
            all.push((name, {
                let names: Vec<String> = list.iter().map(|name| smb_name(name.raw())).collect();
                names.join(" ")
            }));
        }
    }
    all.extend(offer.force_user.iter().map(|user| ("force user", user.raw().to_owned())));
    all.extend(offer.force_group.iter().map(|group| ("force group", group.raw().to_owned())));
    for (name, mode) in [
        ("create mask", offer.create_mask),
        ("directory mask", offer.folder_mask),
        ("force create mode", offer.force_create_mode),
        ("force directory mode", offer.force_folder_mode),
    ] {
        all.extend(mode.map(|mode| (name, format!("{mode:04o}"))));
    }
    // No `inherit acls`: it has the server work the ACL of a new entry out by itself, which puts
    // the maker's primary group in the place of the folder's, setgid or not. Without it the kernel
    // gives new entries the folder's default ACL.
    if offer.recycle {
        all.push(("vfs objects", "recycle".into()));
        all.extend(bin.map(|bin| ("recycle:repository", bin)));
    }
    all
}

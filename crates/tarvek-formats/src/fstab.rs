//! `fstab(5)`.

use tarvek_core::facts::mounts::FstabEntry;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::secret;

use crate::escape::unescape;

/// Reads the lines that mount something at a path; swap, comments and lines with too few fields are passed over, as
/// `mount(8)` passes over them.
pub fn read(text: &[u8]) -> Vec<FstabEntry> {
    text.split(|&b| b == b'\n').filter_map(entry).collect()
}

fn entry(line: &[u8]) -> Option<FstabEntry> {
    let mut fields = line.split(u8::is_ascii_whitespace).filter(|field| !field.is_empty());
    let source = fields.next().filter(|field| !field.starts_with(b"#"))?;
    let point = AbsPath::new(&unescape(fields.next()?)).ok()?;
    let text = |field: &[u8]| String::from_utf8_lossy(&unescape(field)).into_owned();
    let filesystem = text(fields.next()?);
    let options = fields.next().map(text).unwrap_or_else(|| "defaults".to_owned());
    if filesystem == "swap" {
        return None;
    }
    Some(FstabEntry {
        source: secret::hide(&text(source)).into(),
        point,
        filesystem: filesystem.into(),
        options: MountOptions::read(&options),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_what_mounts_and_nothing_else() {
        let text = b"# granary\nUUID=1-2 /loft\\040x xfs defaults 0 2\n\
            granary.lan:/loft/media\t/mnt/media nfs4 ro,nofail\nUUID=3 none swap sw 0 0\n/dev/sdb\n\
            //granary/m /mnt/m cifs username=a,password=b\n";
        let entries = read(text);
        let points: Vec<_> = entries.iter().map(|entry| entry.point.as_bytes()).collect();
        assert_eq!(points, [&b"/loft x"[..], b"/mnt/media", b"/mnt/m"]);
        assert_eq!(entries[1].options.to_string(), "ro,nofail");
        assert_eq!(entries[2].options.to_string(), "username=a,password=[hidden]");
    }
}

//! `fstab(5)`.

use tarvek_core::facts::mounts::FstabEntry;
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::secret;

use crate::escape::unescape;

/// Reads the lines that mount something at a path; swap, comments and lines with too few fields are
/// passed over, as `mount(8)` passes over them.
pub fn read(text: &[u8]) -> Vec<FstabEntry> {
    let entry = |line| {
        let (line, _) = self::line(line)?.ok()?;
        Some(FstabEntry {
            source: line.source,
            point: AbsPath::new(&line.at).ok()?,
            filesystem: line.filesystem,
            options: line.options,
        })
    };
    text.split(|&b| b == b'\n')
        .filter_map(entry)
        .filter(|entry| entry.filesystem != "swap")
        .collect()
}

/// What a line says.
#[derive(Debug)]
pub(crate) struct Line {
    pub(crate) source: Name,
    /// As bytes; swap has no path.
    pub(crate) at: Vec<u8>,
    pub(crate) filesystem: Name,
    pub(crate) options: MountOptions,
}

/// One line, with how many fields it has; `None` for comments and empty ones.
pub(crate) fn line(line: &[u8]) -> Option<Result<(Line, usize), &'static str>> {
    let fields = line.split(u8::is_ascii_whitespace).filter(|field| !field.is_empty());
    let fields: Vec<&[u8]> = fields.collect();
    if fields.first().is_some_and(|first| first.starts_with(b"#")) {
        return None;
    }
    let text = |field: &[u8]| String::from_utf8_lossy(&unescape(field)).into_owned();
    let (source, at, filesystem, rest) = match fields[..] {
        [] => return None,
        [source, at, filesystem, ref rest @ ..] => (source, at, filesystem, rest),
        [_] => return Some(Err("it has one field, and needs six")),
        _ => return Some(Err("it has two fields, and needs six")),
    };
    let options = rest.first().map(|options| text(options)).unwrap_or_default();
    for number in rest.iter().skip(1).take(2) {
        if !number.iter().all(u8::is_ascii_digit) {
            return Some(Err("the fifth and sixth field are numbers"));
        }
    }
    let line = Line {
        source: secret::hide(&text(source)).into(),
        at: unescape(at),
        filesystem: text(filesystem).into(),
        options: MountOptions::read(&options),
    };
    Some(Ok((line, fields.len().min(6))))
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

//! `/proc/PID/mountinfo` (`proc_pid_mountinfo(5)`).

use tarvek_core::facts::mounts::{MountEntry, MountTable};
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::secret;

use crate::escape::unescape;

/// Reads a whole table.
///
/// # Errors
/// The number of the first line, from 1, that is no line of such a table, and what is wrong with
/// it.
pub fn read(text: &[u8]) -> Result<MountTable, (usize, String)> {
    let lines = text.split(|&b| b == b'\n').enumerate().filter(|(_, line)| !line.is_empty());
    let entries = lines.map(|(n, line)| self::line(line).map_err(|what| (n + 1, what.to_owned())));
    Ok(MountTable::new(entries.collect::<Result<_, _>>()?))
}

/// One line.
///
/// # Errors
/// What is wrong with it.
pub(crate) fn line(line: &[u8]) -> Result<MountEntry, &'static str> {
    let line = line.strip_suffix(b"\r").unwrap_or(line);
    let mut fields = line.split(|&b| b == b' ').filter(|field| !field.is_empty());
    let mut next = |what| fields.next().ok_or(what);
    let id = number(next("the mount id is missing")?)?;
    let parent = number(next("the parent id is missing")?)?;
    let device = next("the device is missing")?;
    let cut = device.iter().position(|&b| b == b':').ok_or("the device is not MAJOR:MINOR")?;
    let device = (small(&device[..cut])?, small(&device[cut + 1..])?);
    let root = unescape(next("the root is missing")?);
    let point = unescape(next("the mount point is missing")?);
    let point = AbsPath::new(&point).map_err(|_| "the mount point is not absolute")?;
    let options = list(next("the options are missing")?);
    let mut propagation = Vec::new();
    loop {
        match next("the separator - is missing")? {
            b"-" => break,
            field => propagation.push(String::from_utf8_lossy(field).into_owned()),
        }
    }
    let filesystem =
        String::from_utf8_lossy(next("the filesystem type is missing")?).as_ref().into();
    // Source and superblock options may be empty: then their field is missing altogether.
    let source = fields.next().map(unescape).unwrap_or_default();
    let super_options = fields.next().map(list).unwrap_or_default();
    let source = secret::hidden(source);
    Ok(MountEntry {
        id,
        parent,
        device,
        root,
        point,
        options,
        propagation,
        filesystem,
        source,
        super_options,
    })
}

fn number(field: &[u8]) -> Result<u64, &'static str> {
    let text = std::str::from_utf8(field).map_err(|_| "an id is not a number")?;
    text.parse().map_err(|_| "an id is not a number")
}

fn small(field: &[u8]) -> Result<u32, &'static str> {
    number(field).and_then(|n| u32::try_from(n).map_err(|_| "a device number is too large"))
}

fn list(field: &[u8]) -> MountOptions {
    MountOptions::read(&String::from_utf8_lossy(&unescape(field)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_odd_lines_as_the_kernel_writes_them() {
        let text = b"36 35 98:0 /mnt1 /mnt/a\\040b rw,noatime shared:3 master:1 - cifs \
                     //granary/media rw,password=x\n\
                     40 36 0:5 /old//deleted /x ro - ext4 /dev/sda1 rw\n";
        let table = read(text).unwrap();
        let [first, second] = table.entries() else { panic!() };
        assert_eq!(first.point.as_bytes(), b"/mnt/a b");
        assert_eq!(first.propagation, ["shared:3", "master:1"]);
        assert_eq!(first.super_options.to_string(), "rw,password=[hidden]");
        assert!(second.source_deleted());
        assert_eq!(read(b"1 2 3:4 / /\n"), Err((1, "the options are missing".to_owned())));
        assert_eq!(read(b"\n1 2 34 / / rw - a b c").unwrap_err().0, 2);
    }
}

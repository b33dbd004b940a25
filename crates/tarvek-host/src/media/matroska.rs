//! Matroska and WebM (RFC 8794, RFC 9559).

use std::io;

use tarvek_core::facts::media::Media;

use super::codecs::of_matroska;
use super::window::Window;

const SEGMENT: u32 = 0x1853_8067;
const SEEK_HEAD: u32 = 0x114d_9b74;
const INFO: u32 = 0x1549_a966;
const TRACKS: u32 = 0x1654_ae6b;
const CLUSTER: u32 = 0x1f43_b675;

/// The longest Info, Tracks or SeekHead that is read whole.
const LONGEST: u64 = 256 << 10;

/// An element's id, and how long it is; `None` where that is not said.
struct Element {
    id: u32,
    size: Option<u64>,
}

/// A number of variable length; with its marker, as ids have it.
fn number(window: &mut Window, most: u32, marked: bool) -> io::Result<(u64, bool)> {
    let [first] = window.bytes::<1>()?;
    let length = first.leading_zeros() + 1;
    if length > most {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let mask = if marked { 0xff } else { 0xff_u8.checked_shr(length).unwrap_or(0) };
    let mut value = u64::from(first & mask);
    let mut ones = u64::from(first & mask) == u64::from(mask);
    for byte in window.some(u64::from(length - 1))? {
        value = value << 8 | u64::from(byte);
        ones &= byte == 0xff;
    }
    Ok((value, ones))
}

fn element(window: &mut Window) -> io::Result<Element> {
    let (id, _) = number(window, 4, true)?;
    let (size, unknown) = number(window, 8, false)?;
    let id = u32::try_from(id).map_err(io::Error::other)?;
    Ok(Element { id, size: (!unknown).then_some(size) })
}

pub(super) fn read(window: &mut Window) -> io::Result<Option<Media>> {
    let header = element(window)?;
    window.go(window.at().saturating_add(header.size.unwrap_or(0)));
    let segment = element(window)?;
    if segment.id != SEGMENT {
        return Ok(None);
    }
    let start = window.at();
    let end =
        segment.size.map_or(window.size(), |size| start.saturating_add(size)).min(window.size());
    let cut = segment.size.is_some_and(|size| start.saturating_add(size) > window.size());
    let (mut info, mut tracks) = (None, None);
    let mut seeks: Vec<(u32, u64)> = Vec::new();
    while window.at() < end && (info.is_none() || tracks.is_none()) {
        // What a broken file ends in says no more, and takes nothing from what was read.
        let Ok(next) = element(window) else { break };
        let body = window.at();
        let Some(size) = next.size.filter(|_| next.id != CLUSTER) else { break };
        match next.id {
            SEEK_HEAD if size <= LONGEST => seeks.extend(seek_head(&window.some(size)?)),
            INFO if size <= LONGEST => info = Some(window.some(size)?),
            TRACKS if size <= LONGEST => tracks = Some(window.some(size)?),
            _ => {}
        }
        window.go(body.saturating_add(size));
    }
    // Behind the clusters.
    for (id, at) in seeks {
        let wanted = match id {
            INFO if info.is_none() => &mut info,
            TRACKS if tracks.is_none() => &mut tracks,
            _ => continue,
        };
        window.go(start.saturating_add(at));
        let there = element(window)?;
        if let Some(size) = there.size.filter(|size| there.id == id && *size <= LONGEST) {
            *wanted = Some(window.some(size)?);
        }
    }
    let Some(tracks) = tracks else { return Ok(None) };
    let mut media = Media { millis: info.as_deref().and_then(duration), cut, ..Media::default() };
    for (id, entry) in children(&tracks) {
        if id == 0xae {
            track(entry, &mut media);
        }
    }
    Ok((media.tracks > 0).then_some(media))
}

/// The elements in the body of one.
fn children(body: &[u8]) -> impl Iterator<Item = (u32, &[u8])> {
    let mut rest = body;
    std::iter::from_fn(move || {
        let (id, behind) = short_number(rest, 4, true)?;
        let (size, behind) = short_number(behind, 8, false)?;
        let size = usize::try_from(size).ok().filter(|size| *size <= behind.len())?;
        let (inside, behind) = behind.split_at(size);
        rest = behind;
        Some((u32::try_from(id).ok()?, inside))
    })
}

fn short_number(bytes: &[u8], most: usize, marked: bool) -> Option<(u64, &[u8])> {
    let first = *bytes.first()?;
    let length = first.leading_zeros() as usize + 1;
    if length > most || bytes.len() < length {
        return None;
    }
    let mask = if marked { 0xff } else { 0xff_u8.checked_shr(length as u32).unwrap_or(0) };
    let value = bytes[1..length]
        .iter()
        .fold(u64::from(first & mask), |all, byte| all << 8 | u64::from(*byte));
    Some((value, &bytes[length..]))
}

fn unsigned(bytes: &[u8]) -> Option<u64> {
    (bytes.len() <= 8).then(|| bytes.iter().fold(0, |all, byte| all << 8 | u64::from(*byte)))
}

fn seek_head(body: &[u8]) -> Vec<(u32, u64)> {
    let seek = |entry: &[u8]| {
        let of =
            |wanted: u32| children(entry).find(|(id, _)| *id == wanted).map(|(_, value)| value);
        Some((u32::try_from(unsigned(of(0x53ab)?)?).ok()?, unsigned(of(0x53ac)?)?))
    };
    children(body)
        .filter(|(id, _)| *id == 0x4dbb)
        .filter_map(|(_, entry)| seek(entry))
        .take(64)
        .collect()
}

/// How long the segment is, in milliseconds.
fn duration(info: &[u8]) -> Option<u64> {
    let of = |wanted: u32| children(info).find(|(id, _)| *id == wanted).map(|(_, value)| value);
    let scale = of(0x2a_d7b1).and_then(unsigned).filter(|scale| *scale > 0).unwrap_or(1_000_000);
    let duration = match of(0x4489)? {
        [a, b, c, d] => f64::from(f32::from_be_bytes([*a, *b, *c, *d])),
        all => f64::from_be_bytes(all.try_into().ok()?),
    };
    let millis = duration * scale as f64 / 1e6;
    (millis.is_finite() && millis > 0.0 && millis < 1e13).then_some(millis.round() as u64)
}

fn track(entry: &[u8], media: &mut Media) {
    let of = |wanted: u32| children(entry).find(|(id, _)| *id == wanted).map(|(_, value)| value);
    let id =
        String::from_utf8_lossy(of(0x86).unwrap_or_default()).trim_end_matches('\0').to_owned();
    let private = of(0x63a2).unwrap_or_default();
    match of(0x83).and_then(unsigned) {
        Some(1) => {
            media.tracks += 1;
            if media.width.is_some() {
                return;
            }
            let video = of(0xe0).unwrap_or_default();
            let size = |wanted: u32| {
                let value = children(video).find(|(id, _)| *id == wanted).map(|(_, value)| value);
                value.and_then(unsigned).and_then(|size| u32::try_from(size).ok())
            };
            media.width = size(0xb0);
            media.height = size(0xba);
            media.video = of_matroska(&id, private, None);
        }
        Some(2) => {
            media.tracks += 1;
            let sound = of(0xe1).unwrap_or_default();
            let bits =
                children(sound).find(|(id, _)| *id == 0x6264).and_then(|(_, bits)| unsigned(bits));
            if media.audio.is_none() {
                media.audio = of_matroska(&id, private, bits);
            }
        }
        _ => {}
    }
}

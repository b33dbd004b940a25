//! The ISO base media file format (ISO/IEC 14496-12): mp4, m4v, m4a, and QuickTime's mov, which it
//! came from.

use std::io;

use tarvek_core::facts::media::Media;

use super::codecs::of_sample_entry;
use super::window::Window;

/// How deep boxes are followed, and how many of them.
const DEEPEST: u32 = 8;
const MOST_BOXES: u32 = 2000;

/// A box: its type, where its body is, and where it ends.
#[derive(Clone, Copy, Debug)]
struct Part {
    kind: [u8; 4],
    body: u64,
    end: u64,
    /// Whether it would end behind what it is in.
    cut: bool,
}

/// What a track says.
#[derive(Clone, Debug, Default)]
struct Track {
    id: u32,
    handler: [u8; 4],
    kind: [u8; 4],
    object: Option<u8>,
    size: Option<(u32, u32)>,
    /// Units a second, and how many there are.
    scale: u32,
    units: u64,
}

#[derive(Debug, Default)]
struct Movie {
    boxes: u32,
    scale: u32,
    units: u64,
    /// Of a movie in fragments, as its header says.
    fragments: Option<u64>,
    fragmented: bool,
    tracks: Vec<Track>,
    /// From an index of fragments.
    indexed: Option<(u32, u64)>,
    /// Where fragments are.
    first_fragment: Option<u64>,
    /// Whether the file ends within a box.
    cut: bool,
}

fn next(window: &mut Window, end: u64) -> io::Result<Option<Part>> {
    let start = window.at();
    if end.saturating_sub(start) < 8 {
        return Ok(None);
    }
    let head = window.bytes::<8>()?;
    let size = u64::from(u32::from_be_bytes([head[0], head[1], head[2], head[3]]));
    let kind = [head[4], head[5], head[6], head[7]];
    let size = match size {
        0 => end - start,
        1 => u64::from_be_bytes(window.bytes::<8>()?),
        size => size,
    };
    let body = window.at();
    match start.checked_add(size) {
        Some(stop) if stop >= body => {
            Ok(Some(Part { kind, body, end: stop.min(end), cut: stop > end }))
        }
        _ => Ok(None),
    }
}

pub(super) fn read(window: &mut Window) -> io::Result<Option<Media>> {
    let mut movie = Movie::default();
    let end = window.size();
    while let Ok(Some(part)) = next(window, end) {
        movie.boxes += 1;
        movie.cut |= part.cut;
        match &part.kind {
            b"moov" => movie.inside(window, part, 0)?,
            b"sidx" if movie.indexed.is_none() => {
                movie.indexed = segment_index(window, part).ok().flatten()
            }
            b"moof" => {
                movie.first_fragment.get_or_insert(part.body - 8);
                if !movie.tracks.is_empty() {
                    break;
                }
            }
            _ => {}
        }
        if movie.boxes > MOST_BOXES || movie.is_whole() {
            break;
        }
        window.go(part.end);
    }
    if movie.tracks.is_empty() {
        return Ok(None);
    }
    let millis = movie.millis(window);
    // Tracks of something else, such as text, play nothing.
    Ok(Some(movie.media(millis)).filter(|media| media.tracks > 0))
}

fn full(window: &mut Window) -> io::Result<u8> {
    Ok(window.bytes::<4>()?[0])
}

fn u32_of(window: &mut Window) -> io::Result<u32> {
    Ok(u32::from_be_bytes(window.bytes::<4>()?))
}

fn u64_of(window: &mut Window) -> io::Result<u64> {
    Ok(u64::from_be_bytes(window.bytes::<8>()?))
}

/// A number whose length depends on the version of its box; all ones stand for none.
fn long_or_short(window: &mut Window, version: u8) -> io::Result<u64> {
    Ok(match version {
        1 => Some(u64_of(window)?).filter(|n| *n != u64::MAX).unwrap_or(0),
        _ => Some(u32_of(window)?).filter(|n| *n != u32::MAX).map_or(0, u64::from),
    })
}

fn millis(units: u64, scale: u32) -> Option<u64> {
    let millis = u128::from(units) * 1000 + u128::from(scale) / 2;
    let millis = millis.checked_div(u128::from(scale))?;
    u64::try_from(millis).ok().filter(|millis| *millis > 0)
}

impl Movie {
    /// Whether nothing more has to be found.
    fn is_whole(&self) -> bool {
        !self.tracks.is_empty() && !self.fragmented
    }

    fn inside(&mut self, window: &mut Window, parent: Part, depth: u32) -> io::Result<()> {
        window.go(parent.body);
        while let Some(part) = next(window, parent.end)? {
            self.boxes += 1;
            if self.boxes > MOST_BOXES || depth > DEEPEST {
                return Ok(());
            }
            let into = matches!(&part.kind, b"trak" | b"mdia" | b"minf" | b"stbl" | b"mvex");
            if &part.kind == b"trak" {
                self.tracks.push(Track::default());
            }
            if &part.kind == b"mvex" {
                self.fragmented = true;
            }
            if into {
                self.inside(window, part, depth + 1)?;
            } else {
                self.leaf(window, part)?;
            }
            window.go(part.end);
        }
        Ok(())
    }

    fn leaf(&mut self, window: &mut Window, part: Part) -> io::Result<()> {
        match &part.kind {
            b"mvhd" => {
                let version = full(window)?;
                window.go(part.body + if version == 1 { 20 } else { 12 });
                self.scale = u32_of(window)?;
                self.units = long_or_short(window, version)?;
            }
            b"mehd" => {
                let version = full(window)?;
                self.fragments = Some(long_or_short(window, version)?).filter(|units| *units > 0);
            }
            _ => {
                if let Some(track) = self.tracks.last_mut() {
                    track.leaf(window, part)?;
                }
            }
        }
        Ok(())
    }

    /// How long it plays: what the header says, else the longest track, else what an index of
    /// fragments or the last fragment says.
    fn millis(&self, window: &mut Window) -> Option<u64> {
        let longest = || self.tracks.iter().filter_map(|t| millis(t.units, t.scale)).max();
        let whole = millis(self.units, self.scale);
        if !self.fragmented {
            return whole.or_else(longest);
        }
        let header = self.fragments.and_then(|units| millis(units, self.scale));
        let indexed = || self.indexed.and_then(|(scale, units)| millis(units, scale));
        let last = |window: &mut Window| self.last_fragment(window).ok().flatten();
        header.or_else(indexed).or_else(|| last(window)).or(whole).or_else(longest)
    }

    /// The end of the last fragment that the random access index names, or that the next ones lead
    /// to.
    fn last_fragment(&self, window: &mut Window) -> io::Result<Option<u64>> {
        let size = window.size();
        let mut at = match last_indexed(window)? {
            Some(at) => at,
            None => match self.first_fragment {
                Some(at) => at,
                None => return Ok(None),
            },
        };
        let mut end = None;
        loop {
            window.go(at);
            let Ok(Some(part)) = next(window, size) else { break };
            if &part.kind == b"moof" {
                end = self.fragment_end(window, part)?.max(end);
            }
            at = part.end;
        }
        Ok(end)
    }

    /// When the tracks of a fragment end, in milliseconds.
    fn fragment_end(&self, window: &mut Window, moof: Part) -> io::Result<Option<u64>> {
        let mut latest = None;
        window.go(moof.body);
        while let Some(part) = next(window, moof.end)? {
            if &part.kind == b"traf" {
                latest = self.run_end(window, part)?.max(latest);
            }
            window.go(part.end);
        }
        Ok(latest)
    }

    fn run_end(&self, window: &mut Window, traf: Part) -> io::Result<Option<u64>> {
        let (mut track, mut usual, mut begin, mut units) = (0, 0, 0, 0_u64);
        window.go(traf.body);
        while let Some(part) = next(window, traf.end)? {
            match &part.kind {
                b"tfhd" => {
                    let flags = u32_of(window)?;
                    track = u32_of(window)?;
                    let before = [(1, 8), (2, 4)].iter().filter(|(bit, _)| flags & bit != 0);
                    let skip: u64 = before.map(|(_, bytes)| bytes).sum();
                    window.go(window.at() + skip);
                    usual = if flags & 8 != 0 { u32_of(window)? } else { 0 };
                }
                b"tfdt" => {
                    let version = full(window)?;
                    begin = long_or_short(window, version)?;
                }
                b"trun" => units = units.saturating_add(run(window, part, usual)?),
                _ => {}
            }
            window.go(part.end);
        }
        let track = self.tracks.iter().find(|known| known.id == track);
        Ok(track.and_then(|track| millis(begin.saturating_add(units), track.scale)))
    }

    fn media(&self, millis: Option<u64>) -> Media {
        let of = |handler: &'static [u8; 4]| {
            self.tracks.iter().filter(move |track| track.handler == *handler)
        };
        // Cover art is a picture of its own kind, which no film is made of; audio books have
        // chapters of that.
        let pictures = || of(b"vide");
        let first = pictures().next();
        let name = |track: &Track| of_sample_entry(track.kind, track.object).map(str::to_owned);
        Media {
            millis,
            width: first.and_then(|track| Some(track.size?.0)),
            height: first.and_then(|track| Some(track.size?.1)),
            video: first.and_then(name),
            audio: of(b"soun").next().and_then(name),
            tracks: u32::try_from(pictures().count() + of(b"soun").count()).unwrap_or(u32::MAX),
            cut: self.cut,
        }
    }
}

/// How long the samples of a run are.
fn run(window: &mut Window, part: Part, usual: u32) -> io::Result<u64> {
    let flags = u32_of(window)?;
    let count = u64::from(u32_of(window)?);
    if flags & 0x100 == 0 {
        return Ok(count * u64::from(usual));
    }
    let before =
        [(1, 4), (4, 4)].iter().filter(|(bit, _)| flags & bit != 0).map(|(_, bytes)| bytes);
    let skip: u64 = before.sum();
    window.go(window.at() + skip);
    let fields = [0x100, 0x200, 0x400, 0x800].iter().filter(|bit| flags & **bit != 0).count();
    let body = window.some(part.end.saturating_sub(window.at()))?;
    let samples = body.chunks_exact(fields * 4).take(usize::try_from(count).unwrap_or(0));
    Ok(samples
        .map(|sample| u64::from(u32::from_be_bytes([sample[0], sample[1], sample[2], sample[3]])))
        .sum())
}

/// Where the last fragment is that the index at the end of the file names (`mfra`).
fn last_indexed(window: &mut Window) -> io::Result<Option<u64>> {
    let size = window.size();
    window.go(size.saturating_sub(16));
    let tail = window.some(16)?;
    if tail.len() < 16 || &tail[4..8] != b"mfro" {
        return Ok(None);
    }
    let length = u64::from(u32::from_be_bytes([tail[12], tail[13], tail[14], tail[15]]));
    window.go(size.saturating_sub(length));
    let Some(index) = next(window, size)?.filter(|part| &part.kind == b"mfra") else {
        return Ok(None);
    };
    let mut last = None;
    while let Some(part) = next(window, index.end)? {
        if &part.kind == b"tfra" {
            let version = full(window)?;
            u32_of(window)?;
            let lengths = u32_of(window)?;
            let entries = u64::from(u32_of(window)?);
            let small = u64::from((lengths >> 4 & 3) + (lengths >> 2 & 3) + (lengths & 3) + 3);
            let (time, each) = if version == 1 { (8, 16 + small) } else { (4, 8 + small) };
            if entries > 0 {
                let at = window
                    .at()
                    .saturating_add((entries - 1).saturating_mul(each))
                    .saturating_add(time);
                window.go(at);
                let moof = if version == 1 { u64_of(window)? } else { u64::from(u32_of(window)?) };
                last = last.max(Some(moof));
            }
        }
        window.go(part.end);
    }
    Ok(last)
}

/// How long the segments of an index are, and in which units.
fn segment_index(window: &mut Window, part: Part) -> io::Result<Option<(u32, u64)>> {
    window.go(part.body);
    let version = full(window)?;
    u32_of(window)?;
    let scale = u32_of(window)?;
    window.go(window.at() + if version == 0 { 8 } else { 16 });
    let count = u32_of(window)? & 0xffff;
    let body = window.some(u64::from(count) * 12)?;
    let units = body
        .chunks_exact(12)
        .map(|entry| u64::from(u32::from_be_bytes([entry[4], entry[5], entry[6], entry[7]])))
        .sum();
    Ok(Some((scale, units)).filter(|(scale, units)| *scale > 0 && *units > 0))
}

impl Track {
    fn leaf(&mut self, window: &mut Window, part: Part) -> io::Result<()> {
        match &part.kind {
            b"tkhd" => {
                let version = full(window)?;
                window.go(part.body + if version == 1 { 20 } else { 12 });
                self.id = u32_of(window)?;
            }
            b"mdhd" => {
                let version = full(window)?;
                window.go(part.body + if version == 1 { 20 } else { 12 });
                self.scale = u32_of(window)?;
                self.units = long_or_short(window, version)?;
            }
            // QuickTime has a second one, for where data lies.
            b"hdlr" if self.handler == [0; 4] => {
                window.go(part.body + 8);
                self.handler = window.bytes::<4>()?;
            }
            b"stsd" => self.sample_entry(window, part)?,
            _ => {}
        }
        Ok(())
    }

    fn sample_entry(&mut self, window: &mut Window, part: Part) -> io::Result<()> {
        window.go(part.body + 8);
        let Some(entry) = next(window, part.end)? else { return Ok(()) };
        self.kind = entry.kind;
        let body = window.some((entry.end - entry.body).min(16 << 10))?;
        let short =
            |at: usize| body.get(at..at + 2).map(|b| u32::from(u16::from_be_bytes([b[0], b[1]])));
        if self.handler == *b"vide" {
            self.size = short(24).zip(short(26));
        }
        self.object = object_type(&body);
        if self.kind == *b"lpcm" || self.kind == *b"ipcm" {
            self.kind = *b"sowt";
        }
        Ok(())
    }
}

/// The object type in the `esds` box of a sample entry, wherever versions of QuickTime put that.
fn object_type(body: &[u8]) -> Option<u8> {
    let at = body.windows(4).position(|four| four == b"esds")?;
    let mut rest = body.get(at + 8..)?;
    for _ in 0..4 {
        let (tag, behind) = rest.split_first()?;
        let mut behind = behind;
        // The length, of seven bits a byte.
        while let Some((byte, next)) = behind.split_first() {
            behind = next;
            if byte & 0x80 == 0 {
                break;
            }
        }
        match tag {
            3 => {
                let flags = *behind.get(2)?;
                let more = usize::from(flags & 0x80 != 0) * 2 + usize::from(flags & 0x20 != 0) * 2;
                let url =
                    if flags & 0x40 != 0 { 1 + usize::from(*behind.get(3 + more)?) } else { 0 };
                rest = behind.get(3 + more + url..)?;
            }
            4 => return behind.first().copied(),
            _ => return None,
        }
    }
    None
}

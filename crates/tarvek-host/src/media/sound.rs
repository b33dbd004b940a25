//! Sound files: mp3, flac, ogg, opus, wav and their kin.

use std::io::{self, BufReader};

use lofty::config::ParseOptions;
use lofty::file::{AudioFile, FileType};
use lofty::mpeg::{Layer, MpegFile};
use lofty::probe::Probe;
use tarvek_core::facts::media::Media;

use super::codecs::of_wave;
use super::window::Window;

pub(super) fn read(window: &mut Window) -> io::Result<Option<Media>> {
    let options = ParseOptions::new().read_tags(false).read_cover_art(false);
    let probe = Probe::new(BufReader::with_capacity(4096, &mut *window)).guess_file_type()?;
    let Some(kind) = probe.file_type() else { return Ok(None) };
    window.go(0);
    let mut reader = BufReader::with_capacity(4096, &mut *window);
    let (codec, duration) = match kind {
        FileType::Mpeg => {
            let file = MpegFile::read_from(&mut reader, options).map_err(io::Error::other)?;
            let properties = file.properties();
            let codec = match properties.layer() {
                Layer::Layer1 => "mp1",
                Layer::Layer2 => "mp2",
                Layer::Layer3 => "mp3",
            };
            (codec.to_owned(), properties.duration())
        }
        FileType::Wav => {
            let codec = wave(&mut *window)?;
            window.go(0);
            let mut reader = BufReader::with_capacity(4096, &mut *window);
            let file = lofty::iff::wav::WavFile::read_from(&mut reader, options)
                .map_err(io::Error::other)?;
            let Some(codec) = codec else { return Ok(None) };
            (codec, file.properties().duration())
        }
        _ => {
            let codec = match kind {
                FileType::Flac => "flac",
                FileType::Opus => "opus",
                FileType::Vorbis => "vorbis",
                FileType::Speex => "speex",
                FileType::Aac => "aac",
                FileType::Ape => "ape",
                FileType::WavPack => "wavpack",
                _ => return Ok(None),
            };
            let file = Probe::new(reader)
                .set_file_type(kind)
                .options(options)
                .read()
                .map_err(io::Error::other)?;
            (codec.to_owned(), file.properties().duration())
        }
    };
    let millis = u64::try_from(duration.as_millis()).ok().filter(|millis| *millis > 0);
    Ok(Some(Media { millis, audio: Some(codec), tracks: 1, ..Media::default() }))
}

/// The codec of a RIFF wave, from its format chunk.
fn wave(window: &mut Window) -> io::Result<Option<String>> {
    window.go(12);
    for _ in 0..64 {
        let head = window.bytes::<8>()?;
        let size = u64::from(u32::from_le_bytes([head[4], head[5], head[6], head[7]]));
        let body = window.at();
        if &head[..4] == b"fmt " {
            let format = window.some(size.min(40))?;
            let short =
                |at: usize| format.get(at..at + 2).map(|b| u16::from_le_bytes([b[0], b[1]]));
            // What is extensible says its format further on.
            let tag = match short(0) {
                Some(0xfffe) => short(24),
                tag => tag,
            };
            return Ok(tag.and_then(|tag| of_wave(tag, short(14).map(u64::from))));
        }
        window.go(body + size + size % 2);
    }
    Ok(None)
}

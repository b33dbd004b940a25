//! Names of codecs, as `ffprobe` writes them.

/// By the codec id of Matroska (RFC 9559, and its registry of codecs); what stands behind the id
/// proper is asked where that says more.
pub(super) fn of_matroska(id: &str, private: &[u8], bits: Option<u64>) -> Option<String> {
    let plain = match id {
        "V_MPEG4/ISO/AVC" => "h264",
        "V_MPEGH/ISO/HEVC" => "hevc",
        "V_MPEGI/ISO/VVC" => "vvc",
        "V_VP8" => "vp8",
        "V_VP9" => "vp9",
        "V_AV1" => "av1",
        "V_MPEG1" => "mpeg1video",
        "V_MPEG2" => "mpeg2video",
        "V_MPEG4/ISO/ASP" | "V_MPEG4/ISO/SP" | "V_MPEG4/ISO/AP" => "mpeg4",
        "V_MPEG4/MS/V3" => "msmpeg4v3",
        "V_THEORA" => "theora",
        "V_PRORES" => "prores",
        "V_FFV1" => "ffv1",
        "V_MJPEG" => "mjpeg",
        "V_SNOW" => "snow",
        "V_DIRAC" => "dirac",
        "V_UNCOMPRESSED" => "rawvideo",
        "V_MS/VFW/FOURCC" => return of_fourcc(private.get(16..20)?).map(str::to_owned),
        "A_AC3" | "A_AC3/BSID9" | "A_AC3/BSID10" => "ac3",
        "A_EAC3" => "eac3",
        "A_DTS" | "A_DTS/EXPRESS" | "A_DTS/LOSSLESS" => "dts",
        "A_TRUEHD" => "truehd",
        "A_MLP" => "mlp",
        "A_FLAC" => "flac",
        "A_OPUS" | "A_OPUS/EXPERIMENTAL" => "opus",
        "A_VORBIS" => "vorbis",
        "A_MPEG/L1" => "mp1",
        "A_MPEG/L2" => "mp2",
        "A_MPEG/L3" => "mp3",
        "A_ALAC" => "alac",
        "A_TTA1" => "tta",
        "A_WAVPACK4" => "wavpack",
        "A_PCM/INT/LIT" => return Some(pcm(bits?, "le")),
        "A_PCM/INT/BIG" => return Some(pcm(bits?, "be")),
        "A_PCM/FLOAT/IEEE" => return Some(format!("pcm_f{}le", bits?)),
        "A_MS/ACM" => {
            let tag = u16::from_le_bytes(private.get(..2)?.try_into().ok()?);
            let bits = private.get(14..16).map(|b| u64::from(u16::from_le_bytes([b[0], b[1]])));
            return of_wave(tag, bits.or(Some(16)));
        }
        id if id.starts_with("A_AAC") => "aac",
        _ => return None,
    };
    Some(plain.to_owned())
}

/// Integer samples of so many bits.
fn pcm(bits: u64, order: &str) -> String {
    if bits == 8 { "pcm_u8".to_owned() } else { format!("pcm_s{bits}{order}") }
}

/// By the format tag of a RIFF wave (mmreg.h).
pub(super) fn of_wave(tag: u16, bits: Option<u64>) -> Option<String> {
    let plain = match tag {
        1 => return Some(pcm(bits?, "le")),
        3 => return Some(format!("pcm_f{}le", bits?)),
        2 => "adpcm_ms",
        6 => "pcm_alaw",
        7 => "pcm_mulaw",
        0x11 => "adpcm_ima_wav",
        0x50 => "mp2",
        0x55 => "mp3",
        0xff | 0x1610 => "aac",
        0x160 => "wmav1",
        0x161 => "wmav2",
        0x162 => "wmapro",
        0x2000 => "ac3",
        0x2001 => "dts",
        0xf1ac => "flac",
        _ => return None,
    };
    Some(plain.to_owned())
}

/// By the four characters that AVI and its kin write.
fn of_fourcc(code: &[u8]) -> Option<&'static str> {
    Some(match code.to_ascii_uppercase().as_slice() {
        b"XVID" | b"DIVX" | b"DX50" | b"MP4V" | b"FMP4" | b"3IV2" => "mpeg4",
        b"DIV3" | b"MP43" => "msmpeg4v3",
        b"MP42" => "msmpeg4v2",
        b"H264" | b"AVC1" | b"X264" => "h264",
        b"HEVC" | b"H265" | b"X265" | b"HVC1" => "hevc",
        b"MJPG" => "mjpeg",
        b"FFV1" => "ffv1",
        b"HFYU" => "huffyuv",
        b"FFVH" => "ffvhuff",
        b"WMV1" => "wmv1",
        b"WMV2" => "wmv2",
        b"WMV3" => "wmv3",
        b"WVC1" => "vc1",
        b"MPG1" => "mpeg1video",
        b"MPG2" | b"MPEG" => "mpeg2video",
        b"VP80" => "vp8",
        b"VP90" => "vp9",
        b"AV01" => "av1",
        b"SVQ3" => "svq3",
        b"CVID" => "cinepak",
        _ => return None,
    })
}

/// By the type of a sample entry (ISO/IEC 14496-12, mp4ra.org, and what QuickTime writes). `object`
/// is the object type of an `esds` (ISO/IEC 14496-1, 7.2.6.6.2).
pub(super) fn of_sample_entry(kind: [u8; 4], object: Option<u8>) -> Option<&'static str> {
    Some(match &kind {
        b"avc1" | b"avc2" | b"avc3" | b"avc4" | b"dva1" | b"dvav" | b"ai12" | b"ai55" => "h264",
        b"hvc1" | b"hev1" | b"dvh1" | b"dvhe" => "hevc",
        b"vvc1" | b"vvi1" => "vvc",
        b"vp08" => "vp8",
        b"vp09" => "vp9",
        b"av01" => "av1",
        b"apch" | b"apcn" | b"apcs" | b"apco" | b"ap4h" | b"ap4x" => "prores",
        b"jpeg" | b"mjpa" | b"mjp2" => "mjpeg",
        b"SVQ3" => "svq3",
        b"cvid" => "cinepak",
        b"s263" | b"h263" => "h263",
        b"ffv1" | b"FFV1" => "ffv1",
        b"m1v " | b"m1v1" | b"mp1v" => "mpeg1video",
        b"m2v1" | b"mp2v" | b"hdv1" | b"hdv2" | b"mx5p" | b"mx3p" => "mpeg2video",
        b"dvc " | b"dvcp" | b"dvpp" | b"dv5p" | b"dv5n" => "dvvideo",
        b"mp4v" | b"xvid" | b"XVID" | b"DIVX" => match object {
            Some(0x20) | None => "mpeg4",
            Some(0x21) => "h264",
            Some(0x23) => "hevc",
            Some(0x60..=0x65) => "mpeg2video",
            Some(0x6a) => "mpeg1video",
            Some(0x6c) => "mjpeg",
            Some(0x6d) => "png",
            Some(0xb1) => "vp9",
            Some(_) => return None,
        },
        b"mp4a" => match object {
            Some(0x40 | 0x66..=0x68) | None => "aac",
            Some(0x69 | 0x6b) => "mp3",
            Some(0xa5) => "ac3",
            Some(0xa6) => "eac3",
            Some(0xa9..=0xac) => "dts",
            Some(0xad) => "opus",
            Some(0xdd) => "vorbis",
            Some(_) => return None,
        },
        b".mp3" | b".MP3" | b"ms\0\x55" => "mp3",
        b".mp2" => "mp2",
        b"ac-3" | b"sac3" => "ac3",
        b"ec-3" => "eac3",
        b"ac-4" => "ac4",
        b"dtsc" | b"dtsh" | b"dtsl" | b"dtse" => "dts",
        b"mlpa" => "truehd",
        b"Opus" => "opus",
        b"fLaC" => "flac",
        b"alac" => "alac",
        b"sowt" => "pcm_s16le",
        b"twos" => "pcm_s16be",
        b"in24" => "pcm_s24be",
        b"in32" => "pcm_s32be",
        b"fl32" => "pcm_f32be",
        b"fl64" => "pcm_f64be",
        b"ulaw" => "pcm_mulaw",
        b"alaw" => "pcm_alaw",
        b"samr" => "amr_nb",
        b"sawb" => "amr_wb",
        _ => return None,
    })
}

//! Headers of media files that ffmpeg makes, as `ffprobe` reads them: every container and codec,
//! and the odd cases.

use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;

/// What makes a sample: its name, and what ffmpeg is told between the sources and the file.
const SAMPLES: &[(&str, &str)] = &[
    ("h264-aac.mkv", "-c:v libx264 -c:a aac"),
    ("hevc-ac3.mkv", "-c:v libx265 -c:a ac3"),
    ("vp9-opus.webm", "-c:v libvpx-vp9 -deadline realtime -c:a libopus"),
    ("vp8-vorbis.webm", "-c:v libvpx -deadline realtime -c:a libvorbis"),
    ("mpeg4-mp3.mkv", "-c:v mpeg4 -c:a libmp3lame"),
    ("mpeg2-mp2.mkv", "-c:v mpeg2video -c:a mp2"),
    ("ffv1-flac.mkv", "-c:v ffv1 -c:a flac"),
    ("mjpeg-pcm.mkv", "-c:v mjpeg -c:a pcm_s16le"),
    ("eac3-pcm24.mkv", "-c:v libx264 -c:a eac3"),
    ("pcm24.mka", "-vn -c:a pcm_s24le"),
    ("float.mka", "-vn -c:a pcm_f32le"),
    ("dts.mkv", "-c:v libx264 -c:a dca -strict -2"),
    ("truehd.mkv", "-c:v libx264 -c:a truehd -strict -2"),
    ("cues-first.mkv", "-c:v libx264 -c:a aac -cues_to_front 1"),
    ("no-duration.mkv", "-c:v libx264 -c:a aac -live 1"),
    ("h264-aac.mp4", "-c:v libx264 -c:a aac"),
    ("faststart.mp4", "-c:v libx264 -c:a aac -movflags +faststart"),
    ("hevc-ac3.mp4", "-c:v libx265 -tag:v hvc1 -c:a ac3"),
    ("mpeg4-mp3.mp4", "-c:v mpeg4 -c:a libmp3lame"),
    ("vp9-opus.mp4", "-c:v libvpx-vp9 -deadline realtime -c:a libopus -strict -2"),
    ("flac.mp4", "-c:v libx264 -c:a flac -strict -2"),
    ("alac.m4a", "-vn -c:a alac"),
    ("aac.m4a", "-vn -c:a aac"),
    ("prores-pcm.mov", "-c:v prores_ks -c:a pcm_s16le"),
    ("mjpeg-pcm24.mov", "-c:v mjpeg -c:a pcm_s24be"),
    ("h264.m4v", "-c:v libx264 -c:a aac -f mp4"),
    ("fragmented.mp4", "-c:v libx264 -c:a aac -movflags +frag_keyframe+empty_moov -g 25"),
    (
        "fragmented-moof.mp4",
        "-c:v libx264 -c:a aac -movflags +frag_keyframe+default_base_moof -g 25",
    ),
    ("dash.mp4", "-c:v libx264 -c:a aac -movflags +dash+global_sidx -g 25"),
    (
        "variable-rate.mp4",
        "-vf select='not(mod(n\\,3))+lt(n\\,20)' -fps_mode vfr -c:v libx264 -c:a aac",
    ),
    (
        "variable-rate.mkv",
        "-vf select='not(mod(n\\,3))+lt(n\\,20)' -fps_mode vfr -c:v libx264 -c:a aac",
    ),
    ("two-sounds.mkv", "-map 0:v -map 1:a -map 1:a -c:v libx264 -c:a:0 ac3 -c:a:1 aac"),
    ("no-sound.mkv", "-an -c:v libx264"),
    ("sound.mp3", "-vn -c:a libmp3lame -b:a 128k"),
    ("variable.mp3", "-vn -c:a libmp3lame -q:a 4"),
    ("no-xing.mp3", "-vn -c:a libmp3lame -b:a 128k -write_xing 0"),
    ("no-tags.mp3", "-vn -c:a libmp3lame -b:a 96k -id3v2_version 0"),
    ("sound.flac", "-vn -c:a flac"),
    ("sound.ogg", "-vn -c:a libvorbis"),
    ("sound.opus", "-vn -c:a libopus"),
    ("sound.wav", "-vn -c:a pcm_s16le"),
    ("deep.wav", "-vn -c:a pcm_s24le"),
    ("float.wav", "-vn -c:a pcm_f32le"),
    ("law.wav", "-vn -c:a pcm_mulaw"),
];

fn run(program: &str, arguments: &[&str]) -> std::process::Output {
    let mut command = Command::new(program);
    let output = command.args(arguments).output().unwrap_or_else(|e| panic!("{program}: {e}"));
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{program} {}: {said}", arguments.join(" "));
    output
}

fn ffmpeg(arguments: &str, out: &Path) {
    let mut words = vec!["-v", "error", "-y"];
    words.extend(arguments.split_whitespace());
    words.push(out.to_str().unwrap());
    run("ffmpeg", &words);
}

/// What `ffprobe` says.
fn probed(file: &Path) -> Value {
    let words = ["-v", "error", "-of", "json", "-show_format", "-show_streams"];
    let output = run("ffprobe", &[&words[..], &[file.to_str().unwrap()]].concat());
    serde_json::from_slice(&output.stdout).unwrap()
}

/// What is said of each file of a folder, by its name.
fn told(folder: &Path) -> Vec<(String, Value)> {
    let mut all = Vec::new();
    for kind in ["home-video", "music"] {
        let mut command = Command::new(env!("CARGO_BIN_EXE_tarvek"));
        command
            .args(["forecast", "--format", "json", "--titles", "--media", "--kind", kind])
            .arg(folder);
        let output = command.output().unwrap();
        let answer: Value = serde_json::from_slice(&output.stdout)
            .unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&output.stderr)));
        for found in answer["libraries"][0]["found"].as_array().unwrap() {
            for file in found["files"].as_array().unwrap() {
                let path = PathBuf::from(file["path"].as_str().unwrap());
                let name = path.file_name().unwrap().to_str().unwrap().to_owned();
                all.push((name, file["media"].clone()));
            }
        }
    }
    all
}

#[test]
fn headers_say_what_ffprobe_says() {
    let scratch = tempfile::tempdir().unwrap();
    // An album, so that sound files have a title.
    let folder = scratch.path().join("Choir/Harbour");
    std::fs::create_dir_all(&folder).unwrap();
    let sources = "-f lavfi -i testsrc=size=192x108:rate=25:duration=4.2 -f lavfi -i \
                   sine=frequency=440:duration=4.2";
    let mut made = Vec::new();
    for (name, how) in SAMPLES {
        ffmpeg(&format!("{sources} {how}"), &folder.join(name));
        made.push((*name).to_owned());
    }
    let at = |name: &str| folder.join(name);
    let text = |path: PathBuf| path.to_str().unwrap().to_owned();
    let picture = scratch.path().join("cover.jpg");
    ffmpeg("-f lavfi -i testsrc=size=300x300:duration=1 -frames:v 1", &picture);
    let cover = format!(
        "-i {} -i {} -map 0:a -map 1 -c copy -disposition:v attached_pic",
        text(at("aac.m4a")),
        text(picture.clone())
    );
    ffmpeg(&cover, &at("cover.m4a"));
    let cover = format!(
        "-i {} -i {} -map 0:a -map 1 -c copy -id3v2_version 3",
        text(at("sound.mp3")),
        text(picture.clone())
    );
    ffmpeg(&cover, &at("cover.mp3"));
    let cover = format!(
        "-i {} -i {} -map 0:a -map 1 -c copy -disposition:v attached_pic",
        text(at("sound.flac")),
        text(picture.clone())
    );
    ffmpeg(&cover, &at("cover.flac"));
    let attached = format!(
        "-i {} -c copy -attach {} -metadata:s:t mimetype=image/jpeg",
        text(at("h264-aac.mkv")),
        text(picture)
    );
    ffmpeg(&attached, &at("attached.mkv"));
    ffmpeg(
        &format!("-i {} -c copy -metadata:s:v rotate=90", text(at("h264-aac.mp4"))),
        &at("rotated.mp4"),
    );
    for name in ["cover.m4a", "cover.mp3", "cover.flac", "attached.mkv", "rotated.mp4"] {
        made.push(name.to_owned());
    }
    // A fresh survey reads them too.
    let told = told(scratch.path());
    for name in &made {
        let (_, media) =
            told.iter().find(|(known, _)| known == name).unwrap_or_else(|| panic!("{name}"));
        let real = probed(&at(name));
        let streams = real["streams"].as_array().unwrap();
        let first = |kind: &str| {
            streams.iter().find(|stream| {
                stream["codec_type"] == kind && stream["disposition"]["attached_pic"] != 1
            })
        };
        let context = format!("{name}: {media}\n{real:#}");
        let codec =
            |kind: &str| first(kind).map_or(Value::Null, |stream| stream["codec_name"].clone());
        assert_eq!(media["video"], codec("video"), "{context}");
        assert_eq!(media["audio"], codec("audio"), "{context}");
        for (key, of) in [("width", "width"), ("height", "height")] {
            let is = first("video").map_or(Value::Null, |stream| stream[of].clone());
            assert_eq!(media[key], is, "{context}");
        }
        let seconds: Option<f64> =
            real["format"]["duration"].as_str().map(|text| text.parse().unwrap());
        match (media["seconds"].as_f64(), seconds) {
            (Some(one), Some(other)) => assert!((one - other).abs() < 0.11, "{context}"),
            (one, other) => assert_eq!(one, other, "{context}"),
        }
    }
    // Cut off anywhere, a file has facts of its own or none, and no reading hangs.
    let cut = scratch.path().join("Cut/Short");
    std::fs::create_dir_all(&cut).unwrap();
    for name in &made {
        let whole = std::fs::read(at(name)).unwrap();
        for part in [0, 7, 40, 200, 1000, whole.len() / 2, whole.len() - 3] {
            let (stem, ending) = name.rsplit_once('.').unwrap();
            std::fs::write(
                cut.join(format!("{stem} {part}.{ending}")),
                &whole[..part.min(whole.len())],
            )
            .unwrap();
        }
    }
    let told = self::told(&cut);
    let known = told.iter().filter(|(_, media)| !media.is_null()).count();
    eprintln!(
        "media: {} files as ffprobe reads them, {} of {} cut ones have facts",
        made.len(),
        known,
        told.len()
    );
    assert!(known > 0 && known < told.len());
}

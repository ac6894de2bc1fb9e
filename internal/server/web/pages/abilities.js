// What this browser plays, by names of RFC 6381, as the server wants to know it.
const abilities = async () => {
  const probe = document.createElement("video");
  const source = window.MediaSource || window.ManagedMediaSource;
  const plays = (type) => probe.canPlayType(type) !== "" && (!source || !type.includes("/mp4") || source.isTypeSupported(type));
  const video = ["avc1.42E01E", "avc1.4D4028", "avc1.640028", "avc1.640033", "avc1.6E0033", "hvc1.1.6.L93.90", "hvc1.1.6.L120.90",
    "hvc1.1.6.L153.90", "hvc1.2.4.L120.90", "hvc1.2.4.L153.B0", "av01.0.05M.08", "av01.0.08M.08", "av01.0.13M.08", "av01.0.13M.10",
    "vp09.00.31.08", "vp09.00.41.08", "vp09.00.51.08", "vp09.02.51.10"].filter((c) => plays(`video/mp4; codecs="${c}"`));
  if (plays('video/webm; codecs="vp8"')) video.push("vp8");
  const audio = ["mp4a.40.2", "mp4a.40.5", "mp4a.40.29", "mp4a.6B", "ac-3", "ec-3", "opus", "flac", "alac"]
    .filter((c) => plays(`audio/mp4; codecs="${c}"`));
  if (plays('audio/webm; codecs="vorbis"')) audio.push("vorbis");
  const containers = ["mp4"];
  if (plays('video/webm; codecs="vp8"')) containers.push("webm");
  for (const [name, type] of [["mp3", "audio/mpeg"], ["flac", "audio/flac"], ["wav", 'audio/wav; codecs="1"'], ["ogg", 'audio/ogg; codecs="opus"'],
    ["adts", "audio/aac"]]) {
    if (plays(type)) containers.push(name);
  }
  if (containers.includes("wav")) audio.push("pcm_s16le", "pcm_u8");
  if (containers.includes("mp3") && !audio.includes("mp4a.6B")) audio.push("mp3");
  let hdr = false;
  try {
    const codec = video.findLast((c) => c.startsWith("hvc1.2") || c.endsWith(".10"));
    if (codec && navigator.mediaCapabilities) {
      hdr = (await navigator.mediaCapabilities.decodingInfo({ type: "media-source", video: { contentType: `video/mp4; codecs="${codec}"`,
        width: 1920, height: 1080, bitrate: 1e7, framerate: 24, transferFunction: "pq", colorGamut: "rec2020" } })).supported;
    }
  } catch { /* it does not know the question */ }
  return { containers, video, audio, hdr, max_channels: 2, subtitles: ["webvtt"] };
};

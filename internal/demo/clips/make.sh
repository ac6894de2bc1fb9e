#!/bin/sh
# Makes the clips of Fernhollow Mill anew, with ffmpeg: short, generated, ours.
# The files are committed, so this is needed only when the scenes change.
set -eu
cd "$(dirname "$0")"
font=/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf
rm -rf films series music photos recordings
mkdir -p films series music photos recordings

# scene SECONDS COLOUR COLOUR COLOUR NOTE TEXT -> input and filters for a clip
clip() { # FILE SECONDS C0 C1 C2 NOTE TEXT VIDEO-OPTIONS AUDIO-OPTIONS
  out=$1 secs=$2 c0=$3 c1=$4 c2=$5 note=$6 text=$7 vopt=$8 aopt=$9
  mkdir -p "$(dirname "$out")"
  ffmpeg -nostdin -loglevel error -y \
    -f lavfi -i "gradients=s=640x360:r=12:c0=$c0:c1=$c1:c2=$c2:n=3:x0=0:y0=0:x1=640:y1=360:speed=0.012:seed=7:d=$secs" \
    -f lavfi -i "aevalsrc='0.10*sin(2*PI*$note*t)*(1+sin(2*PI*t/4))/2+0.06*sin(2*PI*$note*1.5*t)*(1+cos(2*PI*t/6))/2':s=44100:d=$secs" \
    -vf "drawbox=x=0:y=ih*0.72:w=iw:h=ih*0.28:color=black@0.25:t=fill,drawtext=fontfile=$font:text='$text':fontcolor=white:fontsize=26:x=32:y=h*0.79,drawtext=fontfile=$font:text='%{pts\:hms}':fontcolor=white@0.7:fontsize=15:x=32:y=h*0.9" \
    -map_metadata -1 -fflags +bitexact -flags:v +bitexact -flags:a +bitexact \
    $vopt $aopt -ac 1 "$out"
}
h264="-c:v libx264 -preset veryslow -crf 30 -pix_fmt yuv420p -g 36 -threads 1 -movflags +faststart"
hevc="-c:v libx265 -preset medium -crf 32 -pix_fmt yuv420p -x265-params log-level=error:pools=none:frame-threads=1"
vp9="-c:v libvpx-vp9 -crf 44 -b:v 0 -g 36 -threads 1"
aac="-c:a aac -b:a 24k"

clip "films/The Paper Lighthouse (2014).mp4"                         24 0x1b3a5c 0xd9a05b 0x7fb7be 220 "The Paper Lighthouse" "$h264" "$aac"
clip "films/Nine Kinds of Rain (2021)/Nine Kinds of Rain (2021).mp4" 18 0x2f4858 0x5b7f8f 0xa9bcc4 196 "Nine Kinds of Rain"   "$h264" "$aac"
clip "films/A Ferry to Somewhere (1987).mkv"                         16 0x0b525b 0x4aa3a2 0xf0d9a7 174 "A Ferry to Somewhere" "$h264" "$aac"
clip "films/Copper Kite (2003).mkv"                                  14 0x7a3b1d 0xd98e4a 0x87b5d9 262 "Copper Kite"          "$hevc" "-c:a ac3 -b:a 48k"
clip "films/The Understudy Moon (1996).mp4"                          12 0x14132b 0x4b4a7a 0xe8e2c8 233 "The Understudy Moon"  "$h264" "$aac"
clip "films/salt.and.semaphore.2018.mp4"                             14 0x31572c 0x90a955 0xecf39e 247 "Salt and Semaphore"   "$h264" "$aac"
nb="series/The Night Bakery (2019)"
clip "$nb/Season 01/The Night Bakery S01E01 Flour.mp4" 15 0x3c2f2f 0xbe9b7b 0xfff4e6 208 "The Night Bakery - Flour" "$h264" "$aac"
clip "$nb/Season 01/The Night Bakery S01E02 Rye.mp4"   13 0x4b3832 0x854442 0xf7e3c4 220 "The Night Bakery - Rye"   "$h264" "$aac"
clip "$nb/Season 02/The Night Bakery S02E01 Salt.mp4"  12 0x22333b 0x5e503f 0xeae0d5 185 "The Night Bakery - Salt"  "$h264" "$aac"
clip "$nb/Season 02/The Night Bakery S02E02 Ash.mp4"   12 0x2b2d42 0x8d99ae 0xedf2f4 175 "The Night Bakery - Ash"   "$h264" "$aac"
th="series/Tiny Harbour (2016)"
clip "$th/Season 01/Tiny Harbour S01E01 The Buoy.mp4"  12 0x0077b6 0x90e0ef 0xffd166 294 "Tiny Harbour - The Buoy"  "$h264" "$aac"
clip "$th/Season 01/Tiny Harbour S01E02 Low Tide.mp4"  10 0x00b4d8 0xcaf0f8 0xef8354 330 "Tiny Harbour - Low Tide"  "$h264" "$aac"
clip "recordings/Mending the Wheel.webm"               10 0x3a5a40 0xa3b18a 0xdad7cd 147 "Mending the Wheel"        "$vp9"  "-c:a libopus -b:a 20k -ar 48000"

track() { # FILE SECONDS NOTE
  mkdir -p "$(dirname "$1")"
  ffmpeg -nostdin -loglevel error -y -f lavfi -i "aevalsrc='0.15*sin(2*PI*$3*t)*(1+sin(2*PI*t/2))/2+0.08*sin(2*PI*$3*1.25*t)':s=44100:d=$2" \
    -map_metadata -1 -fflags +bitexact -flags:a +bitexact -c:a aac -b:a 28k -ac 1 -movflags +faststart "$1"
}
track "music/The Gravel Choir/Songs for Slow Trains (1999)/01 Platform Two.m4a"  12 165
track "music/The Gravel Choir/Songs for Slow Trains (1999)/02 Points Failure.m4a" 10 196
track "music/Mirela Vant/Tin Roof Nocturnes (2012)/01 First Drops.m4a"            11 262
track "music/Mirela Vant/Tin Roof Nocturnes (2012)/02 Gutter Song.m4a"             9 220

picture() { # FILE C0 C1 C2
  mkdir -p "$(dirname "$1")"
  ffmpeg -nostdin -loglevel error -y -f lavfi -i "gradients=s=800x600:c0=$2:c1=$3:c2=$4:n=3:seed=3:d=1:r=1" -frames:v 1 \
    -map_metadata -1 -fflags +bitexact -flags:v +bitexact -q:v 6 "$1"
}
picture "photos/Orchard Picnic 2019/blanket.jpg" 0x386641 0xa7c957 0xf2e8cf
picture "photos/Orchard Picnic 2019/ladder.jpg"  0x606c38 0xdda15e 0xfefae0
picture "photos/First Snow 2022/mill race.jpg"   0x6b7a8f 0xdfe7ef 0xffffff
picture "photos/First Snow 2022/wheel.jpg"       0x415a77 0xe0e1dd 0xbcb8b1
du -sk .

#!/usr/bin/env bash
# Takes the pictures in this folder anew, from the sample project. It needs
# Xvfb, xterm, import (ImageMagick) and chromium.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
cd "$here/../.."
work=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null || true; sleep 1; rm -rf "$work" 2>/dev/null' EXIT
CGO_ENABLED=0 go build -o "$work/bin/piedmont" ./cmd/piedmont
export PATH="$work/bin:$PATH" LANG=C.UTF-8 HOME="$work/home" GOCACHE="${GOCACHE:-$(go env GOCACHE)}" GOPATH="${GOPATH:-$(go env GOPATH)}"
mkdir -p "$HOME"
export GIT_AUTHOR_NAME=Ines GIT_AUTHOR_EMAIL=ines@ridge-signals.example GIT_COMMITTER_NAME=Ines GIT_COMMITTER_EMAIL=ines@ridge-signals.example

piedmont demo "$work/demo" --stay >"$work/demo.log" 2>&1 &
until page=$(grep -om1 'http://127.0.0.1:[0-9]*/hutbell/$' "$work/demo.log"); do sleep 0.2; done

browse() { # NAME WIDTHxHEIGHT ADDRESS [options]
	local name=$1 size=$2 address=$3
	shift 3
	chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
		--disable-component-update --disable-sync --hide-scrollbars --user-data-dir="$work/chromium" \
		--window-size="${size/x/,}" --screenshot="$here/$name.png" "$@" "$address" >/dev/null 2>&1
}
browse page-light 1280x800 "$page"
browse page-packages 1280x1400 "$page"
browse page-dark 1280x800 "$page" --blink-settings=preferredColorScheme=0
browse page-phone 390x844 "$page"

# A terminal of 126 by 39 characters, with the command typed at a prompt.
display=:$((90 + RANDOM % 9))
Xvfb "$display" -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
export DISPLAY=$display
sleep 1
terminal() { # NAME SECONDS FOLDER COMMAND
	local name=$1 seconds=$2 folder=$3 command=$4
	printf 'cd %q; printf "\\033[1m$\\033[0m %%s\\n" %q; %s; sleep 60\n' "$folder" "${shown:-$command}" "$command" >"$work/script"
	xterm -geometry 126x39+0+0 -b 10 -fa 'DejaVu Sans Mono' -fs 12 -bg '#14181b' -fg '#d8dedd' -xrm 'xterm*color2: #7cc9a3' -xrm 'xterm*color3: #e2b36c' \
		-xrm 'xterm*color1: #ee8b7d' -xrm 'xterm*color6: #86c5d8' -e bash "$work/script" &
	local pid=$!
	sleep "$seconds"
	import -window root "$here/$name.png"
	kill $pid
	wait $pid 2>/dev/null || true
}
project="$work/demo/hutbell"
address=${page%/hutbell/}
export HUTBELL_PAGE=$address
HUTBELL_PAGE_TOKEN=$(piedmont serve token new pictures --data "$work/demo/page" --project hutbell)
export HUTBELL_PAGE_TOKEN
# Before the release: obstacles, and the release that the commits ask for.
cp -r "$project" "$work/before"
git -C "$work/before" tag --delete v1.4.0 >/dev/null
git -C "$work/before" reset --quiet --hard HEAD~1
echo "more to say" >>"$work/before/README.md"
HUTBELL_PAGE_TOKEN=pdm_none terminal ready-obstacles 2 "$work/before" 'piedmont ready'
git -C "$work/before" checkout --quiet .
terminal cut 2 "$work/before" 'piedmont cut --yes'
git -C "$work/before" tag v1.4.2
git clone -q --bare "$work/before" "$work/before.git"
git -C "$work/before" remote add origin "$work/before.git"
git -C "$work/before" push -q --set-upstream origin HEAD
terminal ready 2 "$work/before" 'piedmont ready'
terminal plan 2 "$project" 'piedmont plan'
terminal verify 2 "$project" "piedmont verify $address/hutbell/1.4.0/"
terminal show 2 "$project" 'piedmont show outbox/1.4.0/hutbell-1.4.0-linux-arm64.tar.gz'

terminal show-binary 2 "$project" 'piedmont show outbox/1.4.0/chime-1.4.0-linux-arm64.tar.gz chime; piedmont show /usr/bin/git'
terminal show-package 2 "$project" 'piedmont show outbox/1.4.0/hutbelld-1.4.0-1.x86_64.rpm'
terminal show-platforms 2 "$project" 'piedmont show platforms'
terminal try 8 "$project" 'piedmont try'

# An error: several faults of a description at once.
cp -r "$project" "$work/faulty"
sed -i 's/platforms = "servers"/platforms = "server"/; s/^programs = \["hutbell"\]/programs = ["hutbel"]/; s/^formats  = "tar.zst"/formats  = "tar.zts"/; s/^homepage/homepag/; s/{version}-{os}/{versoin}-{os}/' "$work/faulty/piedmont.toml"
terminal error 2 "$work/faulty" 'piedmont plan'

# While it runs: nothing is in the store, and the compiler's cache is empty.
git clone -q "$project" "$work/fresh"
GOCACHE="$work/cache" terminal make 33 "$work/fresh" 'piedmont make'
git -C "$project" tag v1.4.1
terminal ship 14 "$project" 'piedmont ship'

# Tells of a file: kind, mode, owner, size and SHA-256 in one line, and a stretch of its content after it.
# BELOW PATH USER FROM MOST: the path is one of the system that is mounted at BELOW ("" for its own). With a USER it is read with
# that user's rights, and no symbolic link is followed below their home.
home=
if [ -n "$user" ]; then
	known "$user"
	drop "$@"
fi
tell() { # kind path
	told=$(stat -c '%u %a %s' -- "$2") || refuse "$path cannot be looked at"
	owner=${told%% *} told=${told#* }
	entry "$owner"
	printf '%s %s %s %s ' "$1" "${told% *}" "${name:-$owner}" "${told#* }"
}
found() { tell "$1" "$2"; echo -; exit 0; }
islink() { found link "$1"; }
resolve
[ ! -L "$file" ] || found link "$file"
if [ ! -e "$file" ]; then
	# Nothing, unless the way there is closed to the user.
	d=$(dirname -- "$file")
	while [ ! -e "$d" ] && [ "$d" != / ]; do d=$(dirname -- "$d"); done
	[ -x "$d" ] || refuse "$path cannot be looked at as ${user:-root}"
	echo "none 0 - 0 -"; exit 0
fi
[ ! -d "$file" ] || found folder "$file"
[ -f "$file" ] || found other "$file"
if [ -n "$user" ]; then
	o=$(stat -c '%u' -- "$file")
	if [ "$o" != 0 ] && [ "$o" != "$uid" ]; then entry "$o"; refuse "$path belongs to ${name:-$o}"; fi
	[ -r "$file" ] || refuse "$path cannot be read as $user"
fi
sum=$(sha256sum < "$file") || refuse "$path cannot be read"
tell file "$file"; echo "${sum%% *}"
tail -c +$(($4 + 1)) < "$file" | head -c "$5"

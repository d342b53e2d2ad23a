# Replaces a file with the rights of a user, in one rename, if its content is still what it was.
# BELOW PATH USER WAS CONTENT MODE SIZE [FILE]: WAS and CONTENT are SHA-256 sums, SIZE is how long it was. The content is read from
# FILE, which root alone can read, or from the standard input.
known "$user"
if [ $# -gt 7 ] && [ -z "$CROFT_AS" ]; then exec < "$8"; fi
drop "$@"
was=$4 content=$5 mode=$6 size=$7
umask 077
islink() { refuse "$1 is a symbolic link"; }
missing() { mkdir -m 700 -- "$1" || refuse "$1 cannot be made"; }
resolve
[ ! -L "$file" ] || refuse "$path is a symbolic link"
same() { # is the file still what it was?
	if [ -e "$file" ]; then
		[ -f "$file" ] || refuse "$path is no file"
		o=$(stat -c '%u' -- "$file")
		[ "$o" = "$uid" ] || refuse "$path does not belong to $user"
		s=$(sha256sum < "$file") || refuse "$path cannot be read"
		[ "${s%% *}" = "$was" ] || refuse "the content of $path is not what it was"
	else
		[ "$size" = 0 ] || refuse "$path is not there any more"
	fi
}
same
new=$file.plumlatch-edit
set -C
{ cat > "$new"; } 2> /dev/null || refuse "$path.plumlatch-edit is there already, or cannot be made"
set +C
undo() { rm -f -- "$new"; refuse "$1"; }
s=$(sha256sum < "$new") || undo "$path cannot be read back"
[ "${s%% *}" = "$content" ] || undo "the content of $path has not come whole"
if [ -e "$file" ]; then mode=$(stat -c '%a' -- "$file") || undo "$path cannot be looked at"; fi
chmod "$mode" "$new" || undo "the mode of $path cannot be set"
sync -- "$new" 2> /dev/null || sync
(same) || { rm -f -- "$new"; exit 40; }
mv -T -f -- "$new" "$file" || undo "$path cannot be renamed"
sync -- "$(dirname -- "$file")" 2> /dev/null || sync

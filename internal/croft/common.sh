# What both scripts for files begin with. Exit status 40: refused, and why; then nothing was changed.
set -u
PATH=/usr/sbin:/usr/bin:/sbin:/bin
below=$1 path=$2 user=$3
refuse() { echo "$1" >&2; exit 40; }
for p in /etc /etc/passwd; do
	[ ! -L "$below$p" ] || refuse "$p is a symbolic link"
done
me=$(id -u)
entry() { # finds the entry of a user, by name or number, in the passwd file of that system
	while IFS=: read -r name x number group gecos folder shell; do
		if [ "$name" = "$1" ] || [ "$number" = "$1" ]; then return; fi
	done < "$below/etc/passwd"
	name=
}
known() { # finds uid, gid and home of a user
	entry "$1"
	[ "$name" = "$1" ] || refuse "there is no user $1"
	uid=$number gid=$group home=$folder
	case $uid$gid in *[!0-9]* | '') refuse "the entry of $1 in /etc/passwd cannot be read" ;; esac
	case $home in /?*) ;; *) refuse "$1 has no home folder" ;; esac
}
CROFT_AS=${CROFT_AS:-}
drop() { # goes on with the rights of the user
	if [ -n "$CROFT_AS" ] || [ "$uid" = "$me" ]; then return; fi
	groups=--clear-groups
	[ -n "$below" ] || groups=--init-groups
	export CROFT_AS="$user"
	exec setpriv --reuid="$uid" --regid="$gid" $groups --inh-caps=-all sh -c "$CROFT_SCRIPT" croft "$@"
}
missing() { :; }
resolve() { # finds the file of the path; links above the home folder, or for root, are followed as long as they stay below
	at= rest=$path n=0
	while [ -n "${rest#/}" ]; do
		part=${rest#/}; part=${part%%/*}; rest=${rest#/}; rest=${rest#"$part"}
		case $part in '' | .) continue ;; ..) at=${at%/*}; continue ;; esac
		next=$below$at/$part
		if [ -n "$user" ]; then
			case $at/ in "$home"/*)
				[ ! -L "$next" ] || islink "$next"
				if [ -n "${rest#/}" ] && [ ! -e "$next" ]; then missing "$next"; fi ;;
			esac
		fi
		if [ -L "$next" ] && [ -n "${rest#/}" ]; then
			n=$((n + 1)); [ $n -lt 40 ] || refuse "too many symbolic links on the way to $path"
			to=$(readlink -- "$next")
			case $to in /*) at= ;; esac
			rest=$to/${rest#/}
			continue
		fi
		at=$at/$part
	done
	file=$below${at:-/}
}

#!/bin/bash
# A machine with an SSH server, in namespaces of its own: a copy of this system's files that is written to memory, its own
# processes and network, and, if wanted, its own systemd. Everything in it is gone when this process ends.
#   machine.sh outer|inner SYSTEM FOLDER LIFETIME    SYSTEM: systemd, plain
set -eu
step=$1 system=$2 folder=$3 lifetime=$4
own=$(readlink -f "$0")
# Groups of processes of its own in every hierarchy, under the one that it is in, so that nothing is left in the system's.
hierarchies=$(for place in /sys/fs/cgroup /sys/fs/cgroup/*; do
  if [ -e $place/cgroup.procs ]; then
    name=$(basename $place)
    case $name in
      cpuset) continue ;;
      unified|cgroup) name= ;;
      systemd) name=name=systemd ;;
    esac
    echo $place$(sed -n "s/^[0-9]*:$name:\(.*\)/\1/p" /proc/self/cgroup | sed 's|/$||')
  fi
done)

case $step in
outer)
  for place in $hierarchies; do
    mkdir -p "$place/yestrel-test-$$" && echo $$ > "$place/yestrel-test-$$/cgroup.procs"
  done
  cleaned() {
    for place in $hierarchies; do
      echo $$ > "$place/cgroup.procs" 2>/dev/null || true
      for try in 1 2 3 4 5 6 7 8 9 10; do
        find "$place/yestrel-test-$$" -depth -type d -exec rmdir {} \; 2>/dev/null || true
        [ -e "$place/yestrel-test-$$" ] || break
        read -rt 0.1 < /dev/zero || true
      done
    done
  }
  trap cleaned EXIT
  timeout --kill-after=1 "$lifetime" unshare --mount --pid --net --uts --ipc --cgroup --fork --kill-child \
    bash "$own" middle "$system" "$folder" "$lifetime" &
  wait $! || true
  ;;
middle)
  mount --make-rprivate /
  mount -t tmpfs none "$folder/memory"
  mkdir "$folder/memory/upper" "$folder/memory/work" "$folder/memory/root"
  root=$folder/memory/root
  mount -t overlay overlay -o "lowerdir=/,upperdir=$folder/memory/upper,workdir=$folder/memory/work" "$root"
  hostname harbour-machine
  # What a fresh machine would have.
  rm -rf "$root"/etc/systemd/system/*.wants "$root"/opt/yestrel "$root"/var/lib/yestrel "$root"/root/.ssh
  rm -rf "$root"/etc/sudoers.d/* "$root"/var/log/journal
  for unit in systemd-sysctl.service systemd-binfmt.service proc-sys-fs-binfmt_misc.automount \
      proc-sys-fs-binfmt_misc.mount systemd-modules-load.service systemd-udevd.service systemd-udev-trigger.service \
      systemd-udevd-control.socket systemd-udevd-kernel.socket systemd-random-seed.service systemd-remount-fs.service \
      systemd-machine-id-commit.service sys-kernel-debug.mount sys-kernel-tracing.mount dev-hugepages.mount \
      dev-mqueue.mount sys-fs-fuse-connections.mount systemd-tmpfiles-setup-dev.service console-getty.service \
      systemd-update-utmp.service kmod-static-nodes.service systemd-hwdb-update.service systemd-logind.service \
      getty.target tmp.mount systemd-networkd.service systemd-timesyncd.service systemd-resolved.service \
      systemd-journal-flush.service systemd-pstore.service; do
    ln -sf /dev/null "$root/etc/systemd/system/$unit"
  done
  cp -r "$folder/ssh" "$root/etc/yestrel-test-ssh"
  chmod 755 "$root/etc/yestrel-test-ssh" "$root/etc/yestrel-test-ssh/keys"
  echo "127.0.0.1 localhost harbour-machine" > "$root/etc/hosts"
  rm -f "$root/etc/resolv.conf"
  cat "$folder/passwd" >> "$root/etc/passwd"
  cat "$folder/shadow" >> "$root/etc/shadow"
  mkdir -p "$root/home/astrid" && chown 1500:1500 "$root/home/astrid"
  cat > "$root/etc/systemd/system/test-ssh.service" <<UNIT
[Service]
RuntimeDirectory=sshd
ExecStart=/usr/sbin/sshd -D -e -f /etc/yestrel-test-ssh/sshd_config
UNIT
  cat > "$root/etc/systemd/system/test.target" <<UNIT
[Unit]
Wants=test-ssh.service sysinit.target multi-user.target
UNIT
  if [ "$system" = openrc ]; then
    rm -rf "$root"/etc/init.d "$root"/etc/rc?.d
    tar -C "$folder/openrc" -cf - . | tar -C "$root" --keep-directory-symlink -xf -
    rm -rf "$root"/etc/runlevels/*
    mkdir -p "$root"/etc/runlevels/default
  fi
  if [ "$system" = scripts ]; then
    rm -rf "$root"/etc/init.d/* "$root"/etc/rc?.d/* "$root"/etc/rc.local
    mkdir -p "$root"/etc/init.d
    for level in 0 1 2 3 4 5 6 S; do mkdir -p "$root/etc/rc$level.d"; done
  fi
  ip link set lo up
  mount -t tmpfs none "$root/run"
  touch "$folder/built"
  # Waits for its network, and boots; and again, as long as somebody wants a reboot.
  until [ -e "$folder/wired" ]; do read -rt 0.02 < /dev/zero || true; done
  while :; do
    rm -f "$folder/reboot"
    unshare --mount --pid --fork --kill-child bash "$own" inner "$system" "$folder" "$lifetime" </dev/null || true
    nft flush ruleset
    echo 0 > /proc/sys/net/ipv4/ip_forward
    [ -e "$folder/reboot" ] || exit 0
  done
  ;;
inner)
  root=$folder/memory/root
  mount -t proc proc "$root/proc"
  mount -t sysfs -o ro sysfs "$root/sys"
  mount -t tmpfs none "$root/run"
  mount -t tmpfs none "$root/tmp" -o mode=1777
  mount -t tmpfs none "$root/sys/fs/cgroup"
  if [ -e /sys/fs/cgroup/cgroup.controllers ]; then
    mount -t cgroup2 none "$root/sys/fs/cgroup"
  else
    mkdir "$root/sys/fs/cgroup/systemd"
    mount -t cgroup -o none,name=systemd none "$root/sys/fs/cgroup/systemd"
  fi
  mount --rbind /dev "$root/dev"
  # The TUN device as it is on a real machine: everybody may open it, and only some may make an interface of it.
  mount -t tmpfs none "$root/dev/net"
  mknod -m 666 "$root/dev/net/tun" c 10 200
  cd "$root"
  mkdir -p old
  pivot_root . old
  umount -l /old
  if [ "$system" = systemd ]; then
    container=test exec /lib/systemd/systemd --system --unit=test.target --show-status=no --log-target=null
  fi
  if [ "$system" = openrc ]; then
    mkdir -p /run/openrc
    touch /run/openrc/softlevel
    openrc default >/dev/null 2>&1 || true
  fi
  if [ "$system" = scripts ]; then
    for script in /etc/rc2.d/S*; do
      if [ -x "$script" ]; then "$script" start; fi
    done
  fi
  # No service manager: a first process that starts what its boot file says, and picks up what others leave.
  mkdir -p /run/sshd
  chmod +x /etc/rc.local 2>/dev/null || true
  if [ -e /etc/rc.local ]; then sh /etc/rc.local; fi
  /usr/sbin/sshd -D -e -f /etc/yestrel-test-ssh/sshd_config 2>/dev/null &
  while :; do wait -n || true; sleep 1; done
  ;;
esac

# Disks as others make them with GRUB, of a root archive ($1) and a folder with its programs ($2): bios.raw and uefi.raw.
set -eu
mkdir tree; zstd -dc $1 | tar -x -C tree
# BIOS and MBR: GRUB's core lies between the first sector and the partition.
truncate -s 1100M bios.raw
printf 'label: dos\nlabel-id: 0x5eab0a7d\nstart=2048, type=83, bootable\n' | sfdisk -q bios.raw
mke2fs -q -t ext4 -L cloudroot -d tree -E offset=1048576 bios.raw 1090M
dd if=$2/boot.img of=bios.raw bs=440 count=1 conv=notrunc status=none
dd if=$2/core.img of=bios.raw bs=512 seek=1 conv=notrunc status=none
# UEFI and GPT: shim starts GRUB, which reads EFI/debian/grub.cfg; a separate /boot.
mkdir boot; mv tree/boot/* boot/; mkdir tree/boot/efi
sed -i 's|/boot/vmlinuz|/vmlinuz|; s|/boot/initrd|/initrd|; s|cloudroot$|cloudboot|; s|--label cloudroot|--label cloudboot|' boot/grub/grub.cfg
mkdir -p boot/efi
printf 'LABEL=cloudroot / ext4 errors=remount-ro 0 1\nLABEL=cloudboot /boot ext4 defaults 0 2\nLABEL=CLOUDESP /boot/efi vfat umask=0077 0 1\n' > tree/etc/fstab
truncate -s 1300M uefi.raw
printf 'label: gpt\nlabel-id: 6B0A7D5E-AB0A-4D5E-8A0A-7D5EAB0A7D5E\nstart=2048, size=131072, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B, name=ESP\nsize=262144, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4, name=boot\ntype=0FC63DAF-8483-4772-8E79-3D69D8477DE4, name=root\n' | sfdisk -q uefi.raw
truncate -s 64M esp; mkfs.vfat -F 32 -s 1 -n CLOUDESP esp >/dev/null
for d in EFI EFI/BOOT EFI/debian; do mmd -i esp ::$d; done
mcopy -i esp $2/shimx64.efi.signed ::EFI/BOOT/BOOTX64.EFI
mcopy -i esp $2/grubx64.efi.signed ::EFI/BOOT/grubx64.efi
printf 'search --no-floppy --set=root --label cloudboot\nset prefix=($root)/grub\nconfigfile ($root)/grub/grub.cfg\n' > grub.cfg
mcopy -i esp grub.cfg ::EFI/debian/grub.cfg
dd if=esp of=uefi.raw bs=1M seek=1 conv=notrunc status=none; rm esp
mke2fs -q -t ext4 -L cloudboot -d boot -E offset=$(((2048+131072)*512)) uefi.raw 128M
mke2fs -q -t ext4 -L cloudroot -d tree -E offset=$(((2048+131072+262144)*512)) uefi.raw 1100M
rm -r tree boot grub.cfg

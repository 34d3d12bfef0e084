# Two disks of the starter's root archive: one with a GPT, an EFI system partition and a /boot of its own, one with an MBR and what
# starts it in front; written where the workspace is.
set -eu
mkdir tree && zstd -dc bases/*.zst | tar -x -C tree --exclude='./dev/*' --no-same-owner
mkdir -p tree/boot/efi boot/efi; echo a kernel > tree/boot/kernel; cp tree/boot/kernel boot/kernel
mke2fs -q -t ext4 -L old-root -U 11111111-2222-3333-4444-555555555555 -d tree -E offset=1048576 mbr.img 60M
printf 'label: dos\nlabel-id: 0x12345678\nstart=2048, size=122880, type=83, bootable\n' | sfdisk -q --force mbr.img; truncate -s 62M mbr.img
head -c 440 /dev/urandom > front; dd if=front of=mbr.img conv=notrunc status=none
head -c 60000 /dev/urandom > core; dd if=core of=mbr.img bs=512 seek=1 conv=notrunc status=none
truncate -s 40M esp; mkfs.vfat -F 32 -s 1 -i 0badcafe -n OLDESP esp >/dev/null; mmd -i esp ::EFI; mcopy -i esp core '::EFI/Start me.efi'
rm tree/boot/kernel; printf 'UUID=11111111-2222-3333-4444-666666666666 /boot ext4 defaults 0 2\nLABEL=OLDESP /boot/efi vfat defaults 0 2\n' > tree/etc/fstab
truncate -s 140M gpt.img
printf 'label: gpt\nlabel-id: 6B0A7D5E-AB0A-4D5E-8A0A-7D5EAB0A7D5E\nfirst-lba: 2048
size=2048, type=21686148-6449-6E6F-744E-656564454649, name=bios\nsize=81920, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B, name=ESP
size=16384, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4, name=boot\ntype=0FC63DAF-8483-4772-8E79-3D69D8477DE4, name="the root"\n' | sfdisk -q gpt.img
dd if=core of=gpt.img bs=1M seek=1 conv=notrunc status=none; dd if=esp of=gpt.img bs=1M seek=2 conv=notrunc status=none
mke2fs -q -t ext4 -b 4096 -L old-boot -U 11111111-2222-3333-4444-666666666666 -d boot -E offset=$((42*1048576)) gpt.img 8M
mkdir -p tree/boot/hidden; echo linked > tree/boot/hidden/first; ln tree/boot/hidden/first tree/etc/second
mke2fs -q -t ext4 -L old-root -U 11111111-2222-3333-4444-777777777777 -d tree -E offset=$((50*1048576)) gpt.img 80M
rm -r tree boot esp

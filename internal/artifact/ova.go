package artifact

import (
	archive "archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/xml"
	"fmt"
	"hash"
	"strings"
	"time"

	"zygos/internal/disk"
	"zygos/internal/reading"
	"zygos/internal/store"
)

// ova is a virtual appliance: an OVF envelope (DMTF DSP0243, OVF 1.1), a stream-optimised vmdk and a manifest of their
// SHA-256 digests, in a tar (POSIX.1-1988 ustar; a disk of 8 GiB or more with its size as GNU tar writes it). The envelope
// stands first and tells the size of what follows it, so its place is left free until that is known.
var ova = Format{Name: "ova", Extension: ".ova", Packs: true, MediaType: "application/vnd.zygos.disk.v1.ova",
	Reads: &reading.Ova, ReadRank: 8,
	Options: onDisks(&cpus, &memory),
	Write:   writeOVA}

var (
	cpus   = Option{Name: "cpus", Is: Count}
	memory = Option{Name: "memory", Is: Bytes}
)

const (
	ovaCPUs     = 2 // proposed, unless the definition says others
	ovaMemory   = 2 << 30
	ovaEnvelope = 8 << 10 // bytes kept for the envelope
	tarBlock    = 512
)

func writeOVA(ctx context.Context, to *store.Writer, t *Tree, o Options) error {
	volume, err := t.volume(ctx, o)
	if err != nil {
		return err
	}
	if err := to.Reserve(tarBlock + ovaEnvelope + tarBlock); err != nil {
		return err
	}
	t.Past.Behind(tarBlock + ovaEnvelope + tarBlock)
	packed := &summed{Writer: to, hash: sha256.New()}
	if err := vmdkOf(t, o)(ctx, packed, disk.Told(volume, t.Tell)); err != nil {
		return err
	}
	name := o.Label
	envelope, err := ovfOf(o, volume.Size(), packed.size)
	if err != nil {
		return err
	}
	manifest := fmt.Sprintf("SHA256(%s.ovf)= %x\nSHA256(%s-disk1.vmdk)= %x\n", name, sha256.Sum256(envelope), name, packed.hash.Sum(nil))
	var heads [3][]byte
	for i, f := range []struct {
		name string
		size int64
	}{{name + ".ovf", ovaEnvelope}, {name + "-disk1.vmdk", packed.size}, {name + ".mf", int64(len(manifest))}} {
		if heads[i], err = tarHead(f.name, f.size, o.Epoch); err != nil {
			return err
		}
	}
	if err := to.Zero(-packed.size & (tarBlock - 1)); err != nil {
		return err
	}
	end := append(heads[2], manifest...)
	end = append(end, make([]byte, -len(manifest)&(tarBlock-1)+2*tarBlock)...)
	if _, err := to.Write(end); err != nil {
		return err
	}
	_, err = to.WriteAt(bytes.Join([][]byte{heads[0], envelope, heads[1]}, nil), 0)
	return err
}

// tarHead is the header of a file in a tar.
func tarHead(name string, size, epoch int64) ([]byte, error) {
	var b bytes.Buffer
	w := archive.NewWriter(&b)
	format := archive.FormatUSTAR
	epoch = min(max(epoch, 0), 1<<33-1) // its eleven octal digits say no other time
	if size >= 8<<30 {                  // more than its eleven octal digits say
		format = archive.FormatGNU
	}
	err := w.WriteHeader(&archive.Header{Name: name, Mode: 0o644, Size: size, ModTime: time.Unix(epoch, 0), Format: format})
	return b.Bytes(), err
}

// summed is a writer that hashes and counts what passes.
type summed struct {
	*store.Writer
	hash hash.Hash
	size int64
}

func (s *summed) Write(p []byte) (int, error) {
	s.hash.Write(p)
	s.size += int64(len(p))
	return s.Writer.Write(p)
}

func (s *summed) Zero(n int64) error {
	for n > 0 {
		part := min(n, 64<<10)
		if _, err := s.Write(make([]byte, part)); err != nil {
			return err
		}
		n -= part
	}
	return nil
}

// ovfOf is the envelope, filled with line ends to its size. There is no standard word for UEFI: importers know the setting
// "firmware" of the hardware in the name space of vmw, and others pass over it.
func ovfOf(o Options, capacity, packed int64) ([]byte, error) {
	var name bytes.Buffer
	if err := xml.EscapeText(&name, []byte(o.Label)); err != nil {
		return nil, err
	}
	firmware := ""
	if o.Says.Word(&booting) == "uefi" {
		firmware = "\n      <vmw:Config ovf:required=\"false\" vmw:key=\"firmware\" vmw:value=\"efi\"/>"
	}
	text := strings.NewReplacer("NAME", name.String(), "CAPACITY", fmt.Sprint(capacity), "PACKED", fmt.Sprint(packed),
		"CPUS", fmt.Sprint(o.Says.Count("cpus", ovaCPUs)), "MEMORY", fmt.Sprint(o.Says.Bytes("memory", ovaMemory)>>20),
		"FIRMWARE", firmware).Replace(ovfText)
	if len(text) > ovaEnvelope {
		return nil, fmt.Errorf("the envelope of %s has %d bytes, more than there is room for", o.Label, len(text))
	}
	return append([]byte(text), bytes.Repeat([]byte("\n"), ovaEnvelope-len(text))...), nil
}

const ovfText = `<?xml version="1.0" encoding="UTF-8"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1" xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
  xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"
  xmlns:vssd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_VirtualSystemSettingData"
  xmlns:vmw="http://www.vmware.com/schema/ovf">
  <References>
    <File ovf:id="file1" ovf:href="NAME-disk1.vmdk" ovf:size="PACKED"/>
  </References>
  <DiskSection>
    <Info>Disks</Info>
    <Disk ovf:diskId="disk1" ovf:fileRef="file1" ovf:capacity="CAPACITY" ovf:capacityAllocationUnits="byte"
      ovf:format="http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized"/>
  </DiskSection>
  <NetworkSection>
    <Info>Networks</Info>
    <Network ovf:name="network">
      <Description>The network of the machine</Description>
    </Network>
  </NetworkSection>
  <VirtualSystem ovf:id="NAME">
    <Info>A machine</Info>
    <Name>NAME</Name>
    <OperatingSystemSection ovf:id="101">
      <Info>Linux, 64 bits</Info>
    </OperatingSystemSection>
    <VirtualHardwareSection>
      <Info>Hardware</Info>
      <System>
        <vssd:ElementName>Hardware</vssd:ElementName>
        <vssd:InstanceID>0</vssd:InstanceID>
        <vssd:VirtualSystemIdentifier>NAME</vssd:VirtualSystemIdentifier>
        <vssd:VirtualSystemType>vmx-13</vssd:VirtualSystemType>
      </System>
      <Item>
        <rasd:ElementName>CPUS processors</rasd:ElementName>
        <rasd:InstanceID>1</rasd:InstanceID>
        <rasd:ResourceType>3</rasd:ResourceType>
        <rasd:VirtualQuantity>CPUS</rasd:VirtualQuantity>
      </Item>
      <Item>
        <rasd:AllocationUnits>byte * 2^20</rasd:AllocationUnits>
        <rasd:ElementName>MEMORY MiB of memory</rasd:ElementName>
        <rasd:InstanceID>2</rasd:InstanceID>
        <rasd:ResourceType>4</rasd:ResourceType>
        <rasd:VirtualQuantity>MEMORY</rasd:VirtualQuantity>
      </Item>
      <Item>
        <rasd:Address>0</rasd:Address>
        <rasd:ElementName>SCSI controller</rasd:ElementName>
        <rasd:InstanceID>3</rasd:InstanceID>
        <rasd:ResourceSubType>lsilogic</rasd:ResourceSubType>
        <rasd:ResourceType>6</rasd:ResourceType>
      </Item>
      <Item>
        <rasd:AddressOnParent>0</rasd:AddressOnParent>
        <rasd:ElementName>Disk</rasd:ElementName>
        <rasd:HostResource>ovf:/disk/disk1</rasd:HostResource>
        <rasd:InstanceID>4</rasd:InstanceID>
        <rasd:Parent>3</rasd:Parent>
        <rasd:ResourceType>17</rasd:ResourceType>
      </Item>
      <Item>
        <rasd:AutomaticAllocation>true</rasd:AutomaticAllocation>
        <rasd:Connection>network</rasd:Connection>
        <rasd:ElementName>Network card</rasd:ElementName>
        <rasd:InstanceID>5</rasd:InstanceID>
        <rasd:ResourceSubType>E1000</rasd:ResourceSubType>
        <rasd:ResourceType>10</rasd:ResourceType>
      </Item>FIRMWARE
    </VirtualHardwareSection>
  </VirtualSystem>
</Envelope>
`

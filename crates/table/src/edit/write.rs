//! Writing a table to a medium.

use pinewrit_disk::{BlockDevice, ByteRange, DiskError, Lba};

use super::{SchemeKind, Slot, TableEdit, TableError};
use crate::gpt::{GptHeader, put_entry};
use crate::mbr::{ENTRIES, ENTRY_SIZE, SIGNATURE, put_entry as put_mbr_entry};
use crate::{Mbr, MbrEntry, PartitionType};

impl TableEdit {
    /// Writes the table, with the backup of a GPT at the medium's end. The content of partitions
    /// and the boot code are left alone.
    ///
    /// # Errors
    /// [`TableError::BeyondMbr`] before anything is written, or that the device failed.
    pub fn write(&self, device: &dyn BlockDevice) -> Result<(), TableError> {
        let record = self.record()?;
        match self.scheme {
            SchemeKind::Mbr => {
                self.clear_gpt(device)?;
                self.write_chain(device)?;
            }
            SchemeKind::Gpt => self.write_gpt(device)?,
        }
        device.write_at(0, &record)?;
        Ok(())
    }

    /// The first sector.
    fn record(&self) -> Result<[u8; 512], TableError> {
        let mut record = self.record;
        record[SIGNATURE..SIGNATURE + 4].copy_from_slice(&self.signature.to_le_bytes());
        record[ENTRIES..].fill(0);
        let mut put = |index: usize, entry: &MbrEntry| {
            let at = ENTRIES + index * ENTRY_SIZE;
            put_mbr_entry(
                &mut record[at..at + ENTRY_SIZE],
                entry,
                u64::from(entry.first_lba),
            );
        };
        match self.scheme {
            SchemeKind::Mbr => {
                for slot in self.slots.iter().filter(|slot| !slot.is_logical()) {
                    put(slot.number as usize - 1, &self.mbr_entry(slot, 0)?);
                }
                if let Some(extended) = self.extended {
                    let entry =
                        self.entry(extended.kind, false, extended.first, extended.sectors)?;
                    put(extended.number as usize - 1, &entry);
                }
            }
            SchemeKind::Gpt => {
                let protective = MbrEntry {
                    active: false,
                    kind: 0xee,
                    first_lba: 1,
                    sectors: u32::try_from(self.sectors - 1).unwrap_or(u32::MAX),
                };
                let mut hybrid = self.kept_hybrid();
                let own = (0..4).find(|index| hybrid.iter().all(|(used, _)| used != index));
                let own = own.unwrap_or(0);
                hybrid.retain(|(index, _)| *index != own);
                // In a hybrid table, the protective entry ends before the first of the others.
                let first = hybrid.iter().map(|(_, entry)| entry.first_lba).min();
                let sectors = first.map_or(protective.sectors, |first| first.saturating_sub(1));
                put(
                    own,
                    &MbrEntry {
                        sectors,
                        ..protective
                    },
                );
                for (index, entry) in &hybrid {
                    put(*index, entry);
                }
            }
        }
        record[0x1fe..].copy_from_slice(&[0x55, 0xaa]);
        Ok(record)
    }

    /// Entries of a hybrid MBR whose partitions have not moved, with their current sizes.
    fn kept_hybrid(&self) -> Vec<(usize, MbrEntry)> {
        let kept = self.hybrid.iter().filter_map(|(index, entry)| {
            let same = |slot: &&Slot| slot.first.0 == u64::from(entry.first_lba);
            let slot = self.slots.iter().find(same)?;
            let sectors = u32::try_from(slot.sectors).ok()?;
            Some((*index, MbrEntry { sectors, ..*entry }))
        });
        kept.collect()
    }

    fn entry(
        &self,
        kind: u8,
        active: bool,
        first: u64,
        sectors: u64,
    ) -> Result<MbrEntry, TableError> {
        let limit = (1u64 << 32) * self.sector.bytes();
        let beyond = |_| TableError::BeyondMbr { limit };
        Ok(MbrEntry {
            active,
            kind,
            first_lba: u32::try_from(first).map_err(beyond)?,
            sectors: u32::try_from(sectors).map_err(beyond)?,
        })
    }

    /// Its first sector is counted from `base`.
    fn mbr_entry(&self, slot: &Slot, base: u64) -> Result<MbrEntry, TableError> {
        let PartitionType::Mbr(kind) = slot.kind else {
            return Err(TableError::WrongKind(slot.kind.to_string()));
        };
        self.entry(kind, slot.active, slot.first.0 - base, slot.sectors)
    }

    /// Writes the chain of boot records of logical partitions. Each lies before its partition, as
    /// close as alignment allows; the first lies at the start of the extended partition.
    fn write_chain(&self, device: &dyn BlockDevice) -> Result<(), TableError> {
        let Some(extended) = self.extended else {
            return Ok(());
        };
        let logical: Vec<&Slot> = self.slots.iter().filter(|slot| slot.is_logical()).collect();
        let step = (super::ALIGNMENT / self.sector.bytes()).max(1);
        let mut records = Vec::new();
        let mut before = extended.first;
        for slot in &logical {
            let record = if records.is_empty() {
                extended.first
            } else {
                slot.first.0.saturating_sub(step).max(before)
            };
            records.push(record);
            before = slot.end();
        }
        for (index, slot) in logical.iter().enumerate() {
            let next = match records.get(index + 1) {
                Some(&next) => {
                    let end = logical[index + 1].end();
                    Some(self.entry(0x05, false, next - extended.first, end - next)?)
                }
                None => None,
            };
            let own = self.mbr_entry(slot, records[index])?;
            let record = Mbr {
                has_boot_code: false,
                signature: 0,
                entries: [Some(own), next, None, None],
            };
            self.write_sector(device, Lba(records[index]), &record.to_bytes())?;
        }
        if logical.is_empty() {
            let empty = Mbr {
                has_boot_code: false,
                signature: 0,
                entries: [None; 4],
            };
            self.write_sector(device, Lba(extended.first), &empty.to_bytes())?;
        }
        Ok(())
    }

    fn write_sector(
        &self,
        device: &dyn BlockDevice,
        at: Lba,
        data: &[u8],
    ) -> Result<(), DiskError> {
        let mut sector = vec![0; self.sector.bytes() as usize];
        let len = data.len().min(sector.len());
        sector[..len].copy_from_slice(&data[..len]);
        device.write_at(at.0.saturating_mul(self.sector.bytes()), &sector)
    }

    fn write_gpt(&self, device: &dyn BlockDevice) -> Result<(), TableError> {
        let sector = self.sector.bytes();
        let size = self.entry_size as usize;
        let mut entries = vec![0; self.entry_count as usize * size];
        for slot in &self.slots {
            let PartitionType::Gpt(type_guid) = slot.kind else {
                return Err(TableError::WrongKind(slot.kind.to_string()));
            };
            let at = (slot.number as usize - 1) * size;
            let active = if slot.active {
                crate::table::LEGACY_BIOS_BOOTABLE
            } else {
                0
            };
            put_entry(
                &mut entries[at..at + size],
                [type_guid, slot.guid],
                (slot.first, Lba(slot.end() - 1)),
                slot.attributes | active,
                &slot.name,
            );
        }
        let last = Lba(self.sectors - 1);
        if let Some(old) = self.old_backup.filter(|old| *old != last) {
            let is_table = self
                .slots
                .iter()
                .all(|slot| !(slot.first.0..slot.end()).contains(&old.0));
            let own = self.entry_sectors();
            if is_table && old.0 > 1 + own {
                // Its entries stand before it, with the identifiers that partitions had.
                let is_free = |at: &u64| {
                    let mut slots = self.slots.iter();
                    slots.all(|slot| !(slot.first.0..slot.end()).contains(at))
                };
                for at in (old.0 - own..=old.0).filter(is_free) {
                    self.write_sector(device, Lba(at), &[])?;
                }
            }
        }
        let usable = self.usable();
        let usable = (Lba(usable.start), Lba(usable.end - 1));
        let own = self.entry_sectors();
        for (my, other, at) in [(last, Lba(1), Lba(last.0 - own)), (Lba(1), last, Lba(2))] {
            let shape = (self.entry_count, self.entry_size);
            let header = GptHeader::new((my, other, at), usable, self.disk_guid, shape, &entries);
            device.write_at(at.0 * sector, &entries)?;
            self.write_sector(device, my, &header.to_bytes())?;
        }
        Ok(())
    }

    /// An MBR must not be taken for the protective one of a GPT that was there.
    fn clear_gpt(&self, device: &dyn BlockDevice) -> Result<(), TableError> {
        if !self.had_gpt {
            return Ok(());
        }
        let sector = self.sector.bytes();
        let bytes = (1 + self.entry_sectors()) * sector;
        device.zero(ByteRange {
            start: sector,
            end: sector + bytes,
        })?;
        let backup = self.old_backup.unwrap_or(Lba(self.sectors - 1));
        let is_free = self
            .slots
            .iter()
            .all(|slot| !(slot.first.0..slot.end()).contains(&backup.0));
        if is_free {
            self.write_sector(device, backup, &[])?;
        }
        Ok(())
    }
}

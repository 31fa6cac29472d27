//! From one kind of table to the other, without moving a byte of the partitions.

use pinewrit_disk::{BlockDevice, is_zero};
use uuid::Uuid;

use super::{Ids, SchemeKind, TableEdit, TableError};
use crate::PartitionType;

impl TableEdit {
    /// Converts this to the other kind of table. The device shows whether the place of a GPT's
    /// entries is free.
    ///
    /// # Errors
    /// [`TableError::InTheWay`] names all obstacles; nothing is changed then.
    pub fn convert(
        &mut self,
        to: SchemeKind,
        device: &dyn BlockDevice,
        ids: Ids<'_>,
    ) -> Result<(), TableError> {
        if self.scheme == to {
            return Ok(());
        }
        let mut new = self.clone();
        new.scheme = to;
        new.hybrid.clear();
        (new.entry_count, new.entry_size) = (128, 128);
        let mut obstacles = new.out_of_reach();
        match to {
            SchemeKind::Gpt => {
                new.extended = None;
                for (number, slot) in (1..).zip(&mut new.slots) {
                    slot.number = number;
                }
                obstacles.extend(new.loader_in_the_way(device)?);
            }
            SchemeKind::Mbr => {
                if new.slots.len() > 4 {
                    let count = new.slots.len();
                    obstacles.push(format!("{count} partitions; an MBR has four entries"));
                }
                let named = new.slots.iter().filter(|slot| slot.number > 4).count();
                if named > 0 && new.slots.len() <= 4 {
                    for (number, slot) in (1..).zip(&mut new.slots) {
                        slot.number = number;
                    }
                }
                new.disk_guid = Uuid::nil();
                for slot in &mut new.slots {
                    slot.name.clear();
                    slot.guid = Uuid::nil();
                }
            }
        }
        for slot in &mut new.slots {
            match slot.kind.in_scheme(to) {
                Some(kind) => slot.kind = kind,
                None => obstacles.push(format!(
                    "partition {} has the type {}, which {} does not have",
                    slot.number,
                    slot.kind,
                    to.with_article()
                )),
            }
        }
        if !obstacles.is_empty() {
            return Err(TableError::InTheWay(obstacles));
        }
        new.renew(ids);
        *self = new;
        Ok(())
    }

    /// Partitions outside the range that the table can address.
    fn out_of_reach(&self) -> Vec<String> {
        let usable = self.usable();
        let sector = self.sector.bytes();
        let mut found = Vec::new();
        for slot in &self.slots {
            if slot.first.0 < usable.start {
                found.push(format!(
                    "partition {} starts at byte {}; the table needs the first {} bytes",
                    slot.number,
                    slot.first.0 * sector,
                    usable.start * sector
                ));
            }
            if slot.end() > usable.end {
                found.push(format!(
                    "partition {} ends at byte {}; it would have to end at {} or before",
                    slot.number,
                    slot.end() * sector,
                    usable.end * sector
                ));
            }
        }
        found
    }

    /// A loader in the gap behind an MBR would be overwritten by the entries of a GPT.
    fn loader_in_the_way(&self, device: &dyn BlockDevice) -> Result<Option<String>, TableError> {
        let sector = self.sector.bytes();
        let end = self.usable().start * sector;
        let mut bytes = vec![0; (end.min(device.size()) - sector.min(device.size())) as usize];
        device.read_at(sector.min(device.size()), &mut bytes)?;
        Ok((!is_zero(&bytes)).then(|| {
            format!(
                "data, perhaps a boot loader, is in bytes {sector} to {end}, where the entries go"
            )
        }))
    }
}

impl PartitionType {
    /// The same purpose in the other kind of table.
    fn in_scheme(self, scheme: SchemeKind) -> Option<Self> {
        match (self, scheme) {
            (Self::Mbr(_), SchemeKind::Mbr) | (Self::Gpt(_), SchemeKind::Gpt) => Some(self),
            _ => self.purpose().map(|purpose| purpose.kind(scheme)),
        }
    }
}

//! Every field of every structure of a file system, by the kernel's names.

use pinewrit_disk::MemoryDevice;
use pinewrit_ext4::Volume;

use super::image::{Image, Seal};

/// One field: whose it is, its name, where it lies, its bytes, and what covers it.
#[derive(Clone, Debug)]
pub(crate) struct Field {
    pub(crate) of: String,
    pub(crate) name: String,
    pub(crate) at: usize,
    pub(crate) width: usize,
    pub(crate) seal: Seal,
}

const SUPERBLOCK: &[(&str, usize, usize)] = &[
    ("s_inodes_count", 0x00, 4),
    ("s_blocks_count_lo", 0x04, 4),
    ("s_r_blocks_count_lo", 0x08, 4),
    ("s_free_blocks_count_lo", 0x0c, 4),
    ("s_free_inodes_count", 0x10, 4),
    ("s_first_data_block", 0x14, 4),
    ("s_log_block_size", 0x18, 4),
    ("s_log_cluster_size", 0x1c, 4),
    ("s_blocks_per_group", 0x20, 4),
    ("s_clusters_per_group", 0x24, 4),
    ("s_inodes_per_group", 0x28, 4),
    ("s_state", 0x3a, 2),
    ("s_rev_level", 0x4c, 4),
    ("s_first_ino", 0x54, 4),
    ("s_inode_size", 0x58, 2),
    ("s_feature_compat", 0x5c, 4),
    ("s_feature_incompat", 0x60, 4),
    ("s_feature_ro_compat", 0x64, 4),
    ("s_reserved_gdt_blocks", 0xce, 2),
    ("s_journal_inum", 0xe0, 4),
    ("s_last_orphan", 0xe8, 4),
    ("s_hash_seed", 0xec, 4),
    ("s_desc_size", 0xfe, 2),
    ("s_first_meta_bg", 0x104, 4),
    ("s_flags", 0x160, 4),
    ("s_checksum_type", 0x175, 1),
];

const DESCRIPTOR: &[(&str, usize, usize)] = &[
    ("bg_block_bitmap_lo", 0x00, 4),
    ("bg_inode_bitmap_lo", 0x04, 4),
    ("bg_inode_table_lo", 0x08, 4),
    ("bg_free_blocks_count_lo", 0x0c, 2),
    ("bg_free_inodes_count_lo", 0x0e, 2),
    ("bg_used_dirs_count_lo", 0x10, 2),
    ("bg_flags", 0x12, 2),
    ("bg_itable_unused_lo", 0x1c, 2),
];

const INODE: &[(&str, usize, usize)] = &[
    ("i_mode", 0x00, 2),
    ("i_size_lo", 0x04, 4),
    ("i_dtime", 0x14, 4),
    ("i_links_count", 0x1a, 2),
    ("i_blocks_lo", 0x1c, 4),
    ("i_flags", 0x20, 4),
    ("i_block[0]", 0x28, 4),
    ("i_block[1]", 0x2c, 4),
    ("i_block[3]", 0x34, 4),
    ("i_block[4]", 0x38, 4),
    ("i_block[5]", 0x3c, 4),
    ("i_block[12]", 0x58, 4),
    ("i_block[13]", 0x5c, 4),
    ("i_generation", 0x64, 4),
    ("i_file_acl_lo", 0x68, 4),
    ("i_size_high", 0x6c, 4),
    ("i_faddr", 0x70, 4),
    ("i_blocks_high", 0x74, 2),
    ("i_file_acl_high", 0x76, 2),
    ("i_extra_isize", 0x80, 2),
];

const TREE_HEAD: &[(&str, usize, usize)] = &[
    ("eh_magic", 0, 2),
    ("eh_entries", 2, 2),
    ("eh_max", 4, 2),
    ("eh_depth", 6, 2),
    ("ee_block", 12, 4),
    ("ee_len", 16, 2),
    ("ee_start_lo", 20, 4),
    ("ee_block[1]", 24, 4),
    ("ee_len[1]", 28, 2),
    ("ee_start_lo[1]", 32, 4),
];

const ENTRY: &[(&str, usize, usize)] = &[
    ("inode", 0, 4),
    ("rec_len", 4, 2),
    ("name_len", 6, 1),
    ("file_type", 7, 1),
    ("name", 8, 1),
];

const INDEX_ROOT: &[(&str, usize, usize)] = &[
    ("dot.inode", 0, 4),
    ("dot.rec_len", 4, 2),
    ("dotdot.inode", 12, 4),
    ("dotdot.rec_len", 16, 2),
    ("reserved_zero", 24, 4),
    ("hash_version", 28, 1),
    ("info_length", 29, 1),
    ("indirect_levels", 30, 1),
    ("unused_flags", 31, 1),
    ("limit", 32, 2),
    ("count", 34, 2),
    ("block", 36, 4),
    ("hash[1]", 40, 4),
    ("block[1]", 44, 4),
    ("hash[2]", 48, 4),
];

const ATTRIBUTE: &[(&str, usize, usize)] = &[
    ("e_name_len", 0, 1),
    ("e_name_index", 1, 1),
    ("e_value_offs", 2, 2),
    ("e_value_inum", 4, 4),
    ("e_value_size", 8, 4),
    ("e_hash", 12, 4),
    ("e_name", 16, 1),
];

const ATTRIBUTES: &[(&str, usize, usize)] = &[
    ("h_magic", 0, 4),
    ("h_refcount", 4, 4),
    ("h_blocks", 8, 4),
    ("value", 1020, 4),
];

/// "Journal (jbd2)".
const JOURNAL: &[(&str, usize, usize)] = &[
    ("h_magic", 0, 4),
    ("h_blocktype", 4, 4),
    ("s_blocksize", 12, 4),
    ("s_maxlen", 16, 4),
    ("s_first", 20, 4),
    ("s_start", 28, 4),
    ("s_errno", 32, 4),
];

/// All fields of a file system that the test filled.
pub(crate) fn all(image: &Image) -> Vec<Vec<Field>> {
    let mut structures = Vec::new();
    let mut add = |of: &str, base: usize, seal: Seal, names: &[(&str, usize, usize)]| {
        let fields = names.iter().map(|(name, offset, width)| Field {
            of: of.to_owned(),
            name: (*name).to_owned(),
            at: base + offset,
            width: *width,
            seal,
        });
        structures.push(fields.collect());
    };
    let size = image.block();
    add("superblock", 1024, Seal::Superblock, SUPERBLOCK);
    for group in 0..image.groups().min(2) {
        let at = image.descriptor(group);
        add(
            &format!("descriptor {group}"),
            at,
            Seal::Descriptor(group),
            DESCRIPTOR,
        );
        for (name, field) in [("block bitmap", 0), ("inode bitmap", 4)] {
            let bitmap = image.number(at + field, 4) as usize * size;
            let bytes: Vec<(&str, usize, usize)> = [0, 1, 3, 20, 60, 200, size - 4]
                .map(|at| ("bits", at, 1))
                .to_vec();
            add(
                &format!("{name} {group}"),
                bitmap,
                Seal::Bitmaps(group),
                &bytes,
            );
        }
    }
    let paths = [
        "/",
        "/etc",
        "/many",
        "/file",
        "/pieces",
        "/linked",
        "/short",
        "/long",
        "/device",
        "/pipe",
        "/noted",
        "/noted-more",
        "/tiny",
        "/lost+found",
        "/etc/deep",
    ];
    for path in paths {
        let number = image.find(path);
        add(path, image.inode(number), Seal::Inode(number), INODE);
    }
    for number in [7, 8, 5, 9] {
        add(
            &format!("inode {number}"),
            image.inode(number),
            Seal::Inode(number),
            INODE,
        );
    }
    for path in ["/file", "/pieces", "/etc"] {
        let number = image.find(path);
        let map = image.inode(number) + 0x28;
        if image.number(map, 2) == 0xf30a {
            add(
                &format!("map of {path}"),
                map,
                Seal::Inode(number),
                TREE_HEAD,
            );
            if image.number(map + 6, 2) > 0 {
                let block = image.number(map + 16, 4);
                let node = block as usize * size;
                add(
                    &format!("leaf of {path}"),
                    node,
                    Seal::Extents(number, block),
                    TREE_HEAD,
                );
            }
        } else if image.number(map + 48, 4) > 0 {
            let block = image.number(map + 48, 4) as usize * size;
            let pointers: Vec<(&str, usize, usize)> =
                [0, 4, 8, 400].map(|at| ("pointer", at, 4)).to_vec();
            add(
                &format!("pointers of {path}"),
                block,
                Seal::Nothing,
                &pointers,
            );
        }
    }
    for path in ["/", "/etc", "/many", "/etc/deep"] {
        let number = image.find(path);
        for (logical, block) in blocks_of(image, number).into_iter().enumerate().take(4) {
            let at = block as usize * size;
            let is_index = image.number(image.inode(number) + 0x20, 4) & 0x1000 != 0;
            if is_index && logical == 0 {
                add(
                    &format!("index of {path}"),
                    at,
                    Seal::Index(number, block, 32),
                    INDEX_ROOT,
                );
                continue;
            }
            let mut offset = 0;
            for nth in 0..5 {
                if offset + 20 > size {
                    break;
                }
                let of = format!("entry {nth} of block {logical} of {path}");
                add(&of, at + offset, Seal::Names(number, block), ENTRY);
                offset += image.number(at + offset + 4, 2).max(12) as usize;
            }
        }
    }
    for path in ["/noted", "/noted-more"] {
        let number = image.find(path);
        let inode = image.inode(number);
        let block = image.number(inode + 0x68, 4);
        if block > 0 {
            let at = block as usize * size;
            add(
                &format!("attributes of {path}"),
                at,
                Seal::Attributes(block),
                ATTRIBUTES,
            );
            add(
                &format!("first attribute of {path}"),
                at + 32,
                Seal::Attributes(block),
                ATTRIBUTE,
            );
        }
        if image.inode_size() > 128 {
            let extra = image.number(inode + 0x80, 2) as usize;
            if image.number(inode + 0x80 + extra, 4) == 0xea02_0000 {
                let at = inode + 0x84 + extra;
                add(
                    &format!("attribute in {path}"),
                    at,
                    Seal::Inode(number),
                    ATTRIBUTE,
                );
            }
        }
    }
    if image.number(image.inode(8) + 0x1a, 2) > 0 {
        let block = blocks_of(image, 8)[0];
        add(
            "journal",
            block as usize * size,
            Seal::Journal(block),
            JOURNAL,
        );
    }
    let reserve = image.number(image.inode(7) + 0x5c, 4);
    if reserve > 0 {
        let pointers: Vec<(&str, usize, usize)> = [4, 8, 16].map(|at| ("pointer", at, 4)).to_vec();
        add("reserve", reserve as usize * size, Seal::Nothing, &pointers);
        let lower = image.number(reserve as usize * size + 4, 4) as usize * size;
        add("reserve below", lower, Seal::Nothing, &pointers);
    }
    structures
}

/// The first blocks of a file, by its map.
fn blocks_of(image: &Image, number: u32) -> Vec<u64> {
    let device = MemoryDevice::from_bytes(image.bytes.clone());
    let volume = Volume::open(&device).unwrap();
    let size = volume.superblock().block_size;
    let map = image.inode(number) + 0x28;
    if image.number(image.inode(number) + 0x20, 4) & 0x1000_0000 != 0 {
        return Vec::new();
    }
    if image.number(map, 2) != 0xf30a {
        let all = (0..12).map(|slot| image.number(map + slot * 4, 4));
        return all.take_while(|block| *block > 0).collect();
    }
    let leaf = match image.number(map + 6, 2) {
        0 => map,
        _ => (image.number(map + 16, 4) * size) as usize,
    };
    let entries = image.number(leaf + 2, 2) as usize;
    let runs = (1..=entries).map(|nth| {
        let at = leaf + nth * 12;
        (image.number(at + 8, 4), image.number(at + 4, 2))
    });
    runs.flat_map(|(start, len)| start..start + len).collect()
}

//! Fields as bits of the registers' image: how they are read, and how they are put there.

use super::build::Build;
use super::code::{Expr, Stmt, Type};
use super::names::snake;
use super::unpack::register;
use crate::bits::form::Form;
use crate::formula::operators::{Arith, Compare};
use crate::ground::number::Ty;
use crate::model::ids::FieldId;
use crate::model::registers::{Access, Field, Register};

/// Bits of a field in a member of the settings: the member, its type, its lowest bit, their number, and their
/// left shift in the code.
pub(super) struct Piece {
    pub(super) member: String,
    pub(super) ty: Ty,
    pub(super) low: u32,
    pub(super) width: u32,
    pub(super) left: u32,
}

/// The pieces of a field, most significant first.
pub(super) fn pieces(build: &Build<'_>, field: &Field) -> Vec<Piece> {
    let mut left = field.layout.width();
    let mut pieces: Vec<Piece> = Vec::new();
    for slice in &field.layout.slices {
        left -= slice.width();
        let home = build.part.registers.iter().find(|register| (register.offset..register.offset + register.bytes).contains(&slice.byte));
        let Some(register) = home else {
            // Held by no register: a member of its own.
            let ty = super::unpack::register(field.layout.width());
            return vec![Piece { member: snake(&field.name), ty, low: 0, width: field.layout.width(), left: 0 }];
        };
        let base = ((register.offset + register.bytes - 1 - slice.byte) * 8) as u32;
        let (member, low) = (register_member(register), base + u32::from(slice.low));
        match pieces.last_mut() {
            Some(last) if last.member == member && last.low == low + slice.width() => {
                last.low = low;
                last.width += slice.width();
                last.left = left;
            }
            _ => pieces.push(Piece { member, ty: super::unpack::register(register.width()), low, width: slice.width(), left }),
        }
    }
    pieces
}

pub(super) fn register_member(register: &Register) -> String {
    snake(&register.name)
}

/// The present bits of a field, and their type.
pub(super) fn read_bits(build: &Build<'_>, field: &Field, settings: &str) -> (Expr, Ty) {
    let wide = register(field.layout.width());
    let pieces = pieces(build, field);
    // Bits of a single register are extracted there.
    if let [piece] = pieces.as_slice() {
        return (cut(piece, settings), piece.ty);
    }
    let mut joined: Option<Expr> = None;
    for piece in pieces {
        let own = cut(&piece, settings);
        let moved = if piece.ty.bits() > wide.bits() {
            Expr::Cast { from: piece.ty, to: wide, fits: true, value: own.boxed() }
        } else {
            own.cast(piece.ty, wide)
        };
        let moved = moved.shl(wide, piece.left);
        joined = Some(match joined {
            Some(joined) => joined.or(wide, moved),
            None => moved,
        });
    }
    (joined.unwrap_or(Expr::Int(0, wide)), wide)
}

fn cut(piece: &Piece, settings: &str) -> Expr {
    let own = Expr::Member(settings.to_owned(), piece.member.clone()).shr(piece.ty, piece.low);
    if piece.low + piece.width == piece.ty.bits() { own } else { own.and_mask(piece.ty, u64::MAX >> (64 - piece.width)) }
}

/// The present code of a field, and the type that it is kept in.
pub(super) fn read_field(build: &Build<'_>, id: FieldId, settings: &str) -> (Expr, Ty) {
    let Some(field) = build.part.fields.get(id) else { return (Expr::Int(0, Ty::U8), Ty::U8) };
    let Type::Num(stored) = build.stored(&field.layout) else { return (Expr::Int(0, Ty::U8), Ty::U8) };
    let (raw, held) = read_bits(build, field, settings);
    let (width, wide) = (field.layout.width(), register(field.layout.width()));
    if stored == Ty::Bool {
        return (raw.compare(Compare::NotEqual, held, Expr::Int(0, held)), stored);
    }
    let raw = if held == wide { raw } else { Expr::Cast { from: held, to: wide, fits: true, value: raw.boxed() } };
    (build.number(field.layout.form, raw, width, stored), stored)
}

/// Statements that put a code, which fits, into the settings.
pub(super) fn assign(build: &Build<'_>, id: FieldId, code: Expr, code_of: Ty) -> Vec<Stmt> {
    let mut body = build.part.fields.get(id).map_or(Vec::new(), |field| assigned(build, field, code, code_of, true));
    body.extend(build.now_known(id));
    body
}

/// The same; `narrow` where the code is known to have no more bits than the field.
pub(super) fn assigned(build: &Build<'_>, field: &Field, code: Expr, code_of: Ty, narrow: bool) -> Vec<Stmt> {
    let (form, width, wide) = (field.layout.form, field.layout.width(), register(field.layout.width()));
    let raw = if code_of == Ty::Bool {
        Expr::FromBool(wide, code.boxed())
    } else {
        let raw = if code_of == wide { code } else { Expr::Cast { from: code_of, to: wide, fits: false, value: code.boxed() } };
        if form == Form::OffsetBinary {
            Expr::Arith(Arith::BitXor, wide, raw.boxed(), Expr::Hex(1 << (width - 1), wide).boxed())
        } else {
            raw
        }
    };
    let mut body = Vec::new();
    for piece in pieces(build, field) {
        let mask = (u64::MAX >> (64 - piece.width)) << piece.low;
        let member = Expr::Member("settings".into(), piece.member);
        let moved = raw.clone().shr(wide, piece.left);
        let known = form == Form::Unsigned && (narrow || code_of == Ty::Bool) && piece.left + piece.width == width;
        let moved =
            if !known && piece.width < wide.bits() - piece.left { moved.and_mask(wide, u64::MAX >> (64 - piece.width)) } else { moved };
        let moved = if piece.ty.bits() < wide.bits() {
            Expr::Cast { from: wide, to: piece.ty, fits: true, value: moved.boxed() }
        } else {
            moved.cast(wide, piece.ty)
        };
        let moved = moved.shl(piece.ty, piece.low);
        // Zeros do not clear a lock.
        let cleared = if field.access == Access::SetUntilReset { 0 } else { mask };
        let kept = !cleared & (u64::MAX >> (64 - piece.ty.bits()));
        let value = match kept {
            0 => moved,
            _ if cleared == 0 => member.clone().or(piece.ty, moved),
            _ => member.clone().and_mask(piece.ty, kept).or(piece.ty, moved),
        };
        body.push(Stmt::Set(member, value));
    }
    body
}

/// A value with the masks of written bits.
pub(super) fn masked(own: Expr, ty: Ty, and: u64, or: u64, all: u64) -> Expr {
    let kept = if and == all {
        own
    } else if and == 0 {
        return Expr::Hex(or, ty);
    } else {
        own.and_mask(ty, and)
    };
    if or == 0 { kept } else { kept.or(ty, Expr::Hex(or, ty)) }
}

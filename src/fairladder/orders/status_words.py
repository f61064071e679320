"""Order statuses in several languages: those of void orders, and those of final orders."""

import re

from sqlglot import exp

from fairladder.sqltree import sql

#: Cancelled, void, returned, draft, test and unpaid, as in exports.
_VOID = (
    "cancel(l?ed|ad[oa]|led)?|void(ed)?|returned|draft|test|unpaid|not paid|failed|declined|abandoned|expired|"
    "storn(iert|o|ov[aá]no)|abgebrochen|retour(niert)?|zur[uü]ckgegeben|entwurf|unbezahlt|nicht bezahlt|abgelehnt|"
    "annul[eé]e?|retourn[eé]e?|brouillon|impay[eé]e?|refus[eé]e?|anulad[oa]|devuelt[oa]|borrador|impagad[oa]|"
    "annullat[oa]|res[oa]|restituit[oa]|bozza|non pagat[oa]|devolvid[oa]|rascunho|n[aã]o pag[oa]|"
    "geannuleerd|geretourneerd|concept|onbetaald|annull?eret|returneret|kladde|ubetalt|avbruten|makulerad|returnerad|utkast|obetald|"
    "anulowan[eayo]|zwr[oó]con[eayo]|szkic|nieop[lł]acon[eayo]|zru[sš]eno|vr[aá]ceno|nezaplaceno|iptal|iade|taslak|"
    "отмен[её]н[ао]?|возврат|черновик|не оплачен|ακυρωμένη?|キャンセル|已取消|취소(됨)?|"
    "rejected|charge ?backs?|charged back|no[ -]?show|deleted|reversed|fraud|storn[oa]|gel[oö]scht|nicht erschienen|r[uü]ckbuchung|"
    "zam[ií]tnut[oaáéý]|odm[ií]tnut[oaáéý]|smaz[aá]n[oaáéý]?|odrzucon[aeyo]|usuni[eę]t[aeyo]|"
    "скасован[оаий]+|відхилен[оаий]+|видален[оаий]+|поверн(ення|уто)|не оплачено|отклон[её]н[ао]?|удал[её]н[ао]?|"
    "거절|환불|반품|미결제|삭제|t[oö]r[oö]lve|t[oö]r[oö]lt|visszamondva|lemondott|lemondva|elutas[ií]tva|visszak[uü]ld[oöő]tt|"
    "peruttu|peruutettu|hyl[aä]tty|palautettu|poistettu|maksamatta|kansellert|avvist|slettet|returnert|avlyst|"
    "anulat[aă]?|respins[aă]?|returnat[aă]?|[sș]ters[aă]?|nepl[aă]tit[aă]?|отказан[ао]?|анулиран[ао]?|върнат[ао]?|изтрит[ао]?|неплатен[ао]?|"
    "otkazan[oa]?|poni[sš]ten[oa]?|odbijen[oa]?|vra[cć]en[oa]?|obrisan[oa]?|nepla[cć]en[oa]?|"
    "בוטלה?|נדחתה?|הוחזרה?|נמחקה?|מבוטלת?|ملغ[يىا]ة?|ملغاة|مرفوضة?|مرتجعة?|محذوفة?|غير مدفوعة?|"
    "ยกเลิก(แล้ว)?|ปฏิเสธ|คืนสินค้า|ลบแล้ว|đã hủy|đã huỷ|hủy|huỷ|từ chối|trả lại|hoàn trả|đã xóa|chưa thanh toán|"
    "batal|dibatalkan|ditolak|dikembalikan|dihapus|belum dibayar|reddedildi|silindi|odrejeno|preklican[oa]?|zru[sš]en[aáéý]"
)
#: Paid, completed, shipped and the like: whole cells for final orders.
_FINAL = (
    "paid|complete|completed|done|closed|shipped|sent|delivered|fulfilled|finished|invoiced|ok|okay|success|successful|succeeded|sold|final|"
    "captured|settled|confirmed|accepted|picked up|collected|dispatched|received|"
    "bezahlt|abgeschlossen|erledigt|versandt|verschickt|versendet|geliefert|zugestellt|fertig|verkauft|abgeholt|best[aä]tigt|"
    "pay[eé]e?|termin[eé]e?|exp[eé]di[eé]e?|livr[eé]e?|envoy[eé]e?|confirm[eé]e?|pagad[oa]|completad[oa]|enviad[oa]|entregad[oa]|finalizad[oa]|"
    "pagat[oa]|completat[oa]|spedit[oa]|consegnat[oa]|evas[oa]|pag[oa]|conclu[ií]d[oa]|finalizad[oa]|betaald|voltooid|verzonden|geleverd|"
    "betalt|levert|sendt|fullf[oø]rt|leveret|afsluttet|f[aä]rdig|betald|skickad|levererad|slutf[oö]rd|maksettu|toimitettu|valmis|l[aä]hetetty|"
    "op[lł]acon[aeyo]|zap[lł]acon[aeyo]|wys[lł]an[aeyo]|dostarczon[aeyo]|zako[nń]czon[aeyo]|zrealizowan[aeyo]|zaplacen[aáoéy]|odesl[aá]n[aáoéy]|"
    "doru[cč]en[aáoéy]|dokon[cč]en[aáoéy]|vy[rř][ií]zen[aáoéy]|fizetve|kifizetve|teljes[ií]tve|sz[aá]ll[ií]tva|elk[uü]ldve|k[eé]sz|"
    "pl[aă]tit[aă]?|livrat[aă]?|finalizat[aă]?|expediat[aă]?|pla[cć]en[oa]|isporu[cč]en[oa]|poslan[oa]|zavr[sš]en[oa]|"
    "оплачен[ао]?|доставлен[ао]?|выполнен[ао]?|отправлен[ао]?|завершен[ао]?|сплачен[оа]|оплачено|доставлено|виконано|відправлено|"
    "платен[ао]?|доставен[ао]?|изпратен[ао]?|πληρωμένη?|ολοκληρωμένη?|[oö]dendi|tamamland[iı]|teslim edildi|g[oö]nderildi|"
    "שולמה?|הושלמה?|مدفوعة?|مكتملة?|تم التسليم|ชำระแล้ว|เสร็จสิ้น|จัดส่งแล้ว|đã thanh toán|hoàn thành|đã giao|"
    "lunas|dibayar|selesai|dikirim|terkirim|支払済|支払い済み|完了|発送済み|已付款|已完成|已发货|已送达|결제완료|결제 완료|배송완료|배송 완료|완료"
)
_BOUNDARY = "[^a-zà-öø-ɏа-яёіїєґ]"


#: Returns and refunds as row types.
_RETURN = (
    "returns?|refund(s|ed)?|credit notes?|gutschrift(en)?|avoirs?|nota de cr[eé]dito|abono|nota di credito|"
    "creditnota|kreditnota|zwrot|dobropis"
)


def is_final(status: str) -> bool:
    """Return True if a whole cell means that an order is paid, shipped or otherwise final."""
    return re.fullmatch(_FINAL, status.strip().lower()) is not None


def is_void(state: str) -> bool:
    """Return True if a whole cell means that an order is void, or a return."""
    return re.fullmatch(f"{_VOID}|{_RETURN}", state.strip().lower()) is not None


def says_void(status: exp.Expr) -> exp.Expr:
    """Return a condition for the status of a void order."""
    pattern = exp.Literal.string(f"(^|{_BOUNDARY})({_VOID}|{_RETURN})({_BOUNDARY}|$)")
    return sql("COALESCE(REGEXP_MATCHES(LOWER(:s), :p), FALSE)", s=status, p=pattern)

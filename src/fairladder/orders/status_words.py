"""States of orders that speak against counting them, in the words of several languages."""

import re

from sqlglot import exp

from fairladder.sqltree import sql

#: Cancelled, void, returned, draft, test and unpaid, as exports write them.
_VOID = (
    "cancel(l?ed|ad[oa]|led)?|void(ed)?|returned|draft|test|unpaid|not paid|failed|declined|abandoned|expired|"
    "storn(iert|o|ov[aá]no)|abgebrochen|retour(niert)?|zur[uü]ckgegeben|entwurf|unbezahlt|nicht bezahlt|abgelehnt|"
    "annul[eé]e?|retourn[eé]e?|brouillon|impay[eé]e?|refus[eé]e?|anulad[oa]|devuelt[oa]|borrador|impagad[oa]|"
    "annullat[oa]|res[oa]|restituit[oa]|bozza|non pagat[oa]|devolvid[oa]|rascunho|n[aã]o pag[oa]|"
    "geannuleerd|geretourneerd|concept|onbetaald|annull?eret|returneret|kladde|ubetalt|avbruten|makulerad|returnerad|utkast|obetald|"
    "anulowan[eayo]|zwr[oó]con[eayo]|szkic|nieop[lł]acon[eayo]|zru[sš]eno|vr[aá]ceno|nezaplaceno|iptal|iade|taslak|"
    "отмен[её]н|возврат|черновик|не оплачен|ακυρωμένη?|キャンセル|已取消|취소"
)
_BESIDE = "[^a-zà-öø-ÿ]"


#: Returns and refunds as types of rows say them.
_RETURN = (
    "returns?|refund(s|ed)?|credit notes?|gutschrift(en)?|avoirs?|nota de cr[eé]dito|abono|nota di credito|"
    "creditnota|kreditnota|zwrot|dobropis"
)


def is_void(state: str) -> bool:
    """Whether a whole cell says that an order does not stand, or that it is a return."""
    return re.fullmatch(f"{_VOID}|{_RETURN}", state.strip().lower()) is not None


def says_void(status: exp.Expr) -> exp.Expr:
    """Whether a state's text says that the order does not stand."""
    pattern = exp.Literal.string(f"(^|{_BESIDE})({_VOID}|{_RETURN})({_BESIDE}|$)")
    return sql("COALESCE(REGEXP_MATCHES(LOWER(:s), :p), FALSE)", s=status, p=pattern)

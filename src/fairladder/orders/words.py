"""Words of column names in some twenty languages, with the role that they name."""

import re
from functools import cache

from fairladder.orders.calendars import plain
from fairladder.orders.numbers_in_text import CURRENCY_WORDS

#: Role → words that name it, without accents, in some twenty languages; words of four letters and
#: more also match at the ends of longer ones.
ROLE_WORDS: dict[str, str] = {
    "customer": "customer cust client kunde kunden cliente klant kund asiakas klient member buyer user account debitor acheteur "
    "comprador membre mitglied shopper contact konto socio household subscriber patron guest gast donor card karte "
    "medlem kundenr jasen tag zakaznik zakaznika klijent kupac ugyfel vevo clientul musteri uye клиент покупатель "
    "заказчик пользователь πελατης 顧客 客户 会員 会员 고객 회원",
    "order": "order orders invoice receipt slip bestellung bestell auftrag rechnung beleg commande facture pedido factura "
    "ordine fattura bestelling bon ordre zamowienie tilaus transaction ticket encomenda fatura ordernr basket "
    "booking buchung kvitto kvittering objednavka objednavky faktura racun narudzba rendeles szamla comanda siparis "
    "заказ заказа счет чек παραγγελια 注文 订单 주문 sale",
    "placed": "date datum fecha data day time timestamp created placed sold dato paivamaara jour tag zeit giorno dag "
    "purchased when ordered gebucht bestellt booked charged dt paivays dátum datumu tarih tarihi zi дата ημερομηνια "
    "日付 日 日期 날짜 posted bought",
    "amount": "amount total money eur usd gbp chf sek nok dkk pln czk huf betrag summe umsatz "
    "montant somme importe monto importo totale bedrag totaal valor belopp summa "
    "kwota revenue sales value turnover paid spend sum belob belop castka cena iznos osszeg suma tutar toplam сумма "
    "итого стоимость ποσο 金額 金额 合計 금액 net netto gross brutto debit amt",
    "unit_price": "price preis einzelpreis stueckpreis prix precio prezzo prijs preco pris cena цена fiyat 単価 单价 hinta ar each tarif pretul pret",
    "quantity": "quantity qty menge anzahl stueck quantite cantidad quantita aantal quantidade antal units pieces ilosc stk "
    "count mnozstvi kolicina mennyiseg adet количество 数量 수량 qtd qtde uds kpl maara db kappale kusy kosov bucati cantitate",
    "discount": "discount rabatt remise descuento sconto korting desconto rabat nachlass off reduction rebate sleva popust alennus kedvezmeny",
    "name": "name nom nombre nome naam namn navn nimi nazwa fullname",
    "channel": "channel kanal canal canale kanaal store shop filiale branch",
    "status": "status state stato estado etat statut zustand tila",
    "currency": "currency waehrung devise moneda valuta moeda",
    "cost": "cost costs kosten cout coste costo custo wareneinsatz",
}  # fmt: skip


def words_of(name: str) -> list[str]:
    """Return a column name's words without accents and in lowercase: ``KundenNr`` → kunden, nr."""
    spaced = re.sub(
        r"([a-zà-ÿ])([A-ZÀ-Þ])",
        r"\1 \2",
        name.replace("ß", "ss").replace("ø", "o").replace("Ø", "O"),
    )
    return [plain(word) for word in re.findall(r"[^\W\d_]+|№", spaced)]


def names_role(role: str, words: list[str]) -> int:
    """Return how well a name's words match the role: 0 not at all, 2 inside a longer word, 3 as a
    word of its own.
    """
    known = [plain(k) for k in ROLE_WORDS[role].split()]
    if set(words) & set(known):
        return 3
    if any(
        not k.isascii() and not k[0].islower() and k in w for w in words for k in known
    ):  # scripts without spaces between words
        return 3
    return (
        2
        if any(len(k) >= 4 and (w.startswith(k) or w.endswith(k)) for w in words for k in known)
        else 0
    )


_PERCENT = set(
    "pct percent percentage prozent rabattprozent procent prosent porcentaje pourcentage percentuale percentual porcento procenta".split()
)


def says_percent(name: str) -> bool:
    """Return True if a column's name means that its numbers are percentages."""
    return "%" in name or bool(set(words_of(name)) & _PERCENT)


@cache
def known_words() -> frozenset[str]:
    """Return all words of roles and currencies, without accents, which are likely to occur in
    exports.
    """
    roles = {plain(word) for words in ROLE_WORDS.values() for word in words.split()}
    return frozenset(roles | {plain(word) for word in CURRENCY_WORDS})


#: Labels of total rows in the customer column, lowercase, whole cells.
TOTAL_WORDS = (
    "total", "grand total", "subtotal", "sub-total", "sub total", "summe", "gesamt", "gesamtsumme", "zwischensumme", "endsumme",
    "insgesamt",
    "total général", "sous-total", "totale", "subtotale", "totale generale", "suma", "suma total", "total general",
    "total geral",
    "totaal", "subtotaal", "eindtotaal", "summa", "delsumma", "totalt", "i alt", "yhteensä", "välisumma", "razem", "suma częściowa",
    "celkem", "celkom", "mezisoučet", "összesen", "részösszeg", "ukupno", "skupaj", "toplam", "ara toplam", "genel toplam",
    "итого", "всего",
    "разом", "общо", "σύνολο", "合計", "小計", "總計", "总计", "合计", "小计", "합계", "소계",
)  # fmt: skip

#: Yes and no in consent columns, as normalised by ``said``; whole cells only. Anything else is not
#: a yes.
YES_WORDS = frozenset(
    plain(word)
    for word in (
        "yes y true t 1 on ja oui si sì sí sim da tak ano áno igen kyllä joo jah taip jā evet ναι да так はい 是 예 네 có "
        "granted agreed accepted confirmed opt-in optin subscribed"
    ).split()
) | {"opted in", "opt in"}
NO_WORDS = frozenset(
    plain(word)
    for word in (
        "no n false f 0 off nein non não nao nee nej nei nie ne nem ei όχι нет ні hayır いいえ 否 不 아니오 아니요 không "
        "refused denied declined withdrawn revoked opt-out optout unsubscribed none"
    ).split()
) | {"", "opted out", "opt out", "-", "–"}


def said(cell: str) -> str:
    """Normalise a yes/no cell for comparison: lowercase, no accents, and ``1`` for a flag that was
    read as 1.0.
    """
    return {"1.0": "1", "0.0": "0"}.get(cell.strip()) or plain(cell.strip())

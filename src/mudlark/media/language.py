"""Languages as containers name them: ISO 639-2 codes of three letters for tags of BCP 47 (RFC 5646)."""

from functools import cache

# the two-letter codes of ISO 639-1 with the terminological three-letter ones of ISO 639-2
_CODES = """
aa:aar ab:abk ae:ave af:afr ak:aka am:amh an:arg ar:ara as:asm av:ava ay:aym az:aze ba:bak be:bel bg:bul
bi:bis bm:bam bn:ben bo:bod br:bre bs:bos ca:cat ce:che ch:cha co:cos cr:cre cs:ces cu:chu cv:chv cy:cym
da:dan de:deu dv:div dz:dzo ee:ewe el:ell en:eng eo:epo es:spa et:est eu:eus fa:fas ff:ful fi:fin fj:fij
fo:fao fr:fra fy:fry ga:gle gd:gla gl:glg gn:grn gu:guj gv:glv ha:hau he:heb hi:hin ho:hmo hr:hrv ht:hat
hu:hun hy:hye hz:her ia:ina id:ind ie:ile ig:ibo ii:iii ik:ipk io:ido is:isl it:ita iu:iku ja:jpn jv:jav
ka:kat kg:kon ki:kik kj:kua kk:kaz kl:kal km:khm kn:kan ko:kor kr:kau ks:kas ku:kur kv:kom kw:cor ky:kir
la:lat lb:ltz lg:lug li:lim ln:lin lo:lao lt:lit lu:lub lv:lav mg:mlg mh:mah mi:mri mk:mkd ml:mal mn:mon
mr:mar ms:msa mt:mlt my:mya na:nau nb:nob nd:nde ne:nep ng:ndo nl:nld nn:nno no:nor nr:nbl nv:nav ny:nya
oc:oci oj:oji om:orm or:ori os:oss pa:pan pi:pli pl:pol ps:pus pt:por qu:que rm:roh rn:run ro:ron ru:rus
rw:kin sa:san sc:srd sd:snd se:sme sg:sag si:sin sk:slk sl:slv sm:smo sn:sna so:som sq:sqi sr:srp ss:ssw
st:sot su:sun sv:swe sw:swa ta:tam te:tel tg:tgk th:tha ti:tir tk:tuk tl:tgl tn:tsn to:ton tr:tur ts:tso
tt:tat tw:twi ty:tah ug:uig uk:ukr ur:urd uz:uzb ve:ven vi:vie vo:vol wa:wln wo:wol xh:xho yi:yid yo:yor
za:zha zh:zho zu:zul
"""
# bibliographic codes that stand for the same languages
_ALSO = """
alb:sqi arm:hye baq:eus bur:mya chi:zho cze:ces dut:nld fre:fra geo:kat ger:deu gre:ell ice:isl mac:mkd
may:msa mao:mri per:fas rum:ron slo:slk tib:bod wel:cym
"""
UNKNOWN = "und"


@cache
def _table(pairs: str) -> dict[str, str]:
    return dict(pair.split(":") for pair in pairs.split())


def three_letters(tag: str) -> str:
    """The ISO 639-2 code of a BCP 47 tag or of such a code; `und` where there is none."""
    primary = tag.replace("_", "-").partition("-")[0].lower()
    if len(primary) == 3 and primary.isascii() and primary.isalpha():
        return _table(_ALSO).get(primary, primary)
    return _table(_CODES).get(primary, UNKNOWN)


def same_language(one: str, other: str) -> bool:
    """True if two tags name the same language, whatever region or script they add; a wish for one without a region is
    met by any."""
    known, wanted = three_letters(one), three_letters(other)
    if UNKNOWN in (known, wanted):
        return one.lower() == other.lower()
    regions = [tag.replace("_", "-").lower().partition("-")[2] for tag in (one, other)]
    return known == wanted and (not regions[1] or regions[0] == regions[1] or not regions[0])


def packed_code(tag: str) -> bytes:
    """A language as MP4 media headers have it: three letters of five bits (ISO/IEC 14496-12 §8.4.2)."""
    first, second, third = (ord(letter) - 0x60 for letter in three_letters(tag))
    return (first << 10 | second << 5 | third).to_bytes(2, "big")

package charset

import (
	"errors"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/transform"
)

// tableOf is an encoding of one byte a character whose lower half is ASCII, by the 128 characters of its upper half;
// U+FFFD stands where it has none.
type tableOf struct {
	runes [128]rune
	bytes map[rune]byte
}

func newTable(upper string) *tableOf {
	t := &tableOf{bytes: map[rune]byte{}}
	for i, c := range []rune(upper) {
		t.runes[i] = c
		if c != utf8.RuneError {
			t.bytes[c] = byte(i + 0x80)
		}
	}
	return t
}

// NewDecoder returns a decoder to UTF-8.
func (t *tableOf) NewDecoder() *encoding.Decoder {
	return &encoding.Decoder{Transformer: tableDecoder{t}}
}

// NewEncoder returns an encoder from UTF-8, which fails for a character that the encoding doesn't have.
func (t *tableOf) NewEncoder() *encoding.Encoder {
	return &encoding.Encoder{Transformer: tableEncoder{t}}
}

type tableDecoder struct{ *tableOf }

func (tableDecoder) Reset() {}

// Transform decodes src.
func (d tableDecoder) Transform(dst, src []byte, _ bool) (nDst, nSrc int, err error) {
	for _, b := range src {
		c := rune(b)
		if b >= utf8.RuneSelf {
			c = d.runes[b-utf8.RuneSelf]
		}
		if nDst+utf8.RuneLen(c) > len(dst) {
			return nDst, nSrc, transform.ErrShortDst
		}
		nDst += utf8.EncodeRune(dst[nDst:], c)
		nSrc++
	}
	return nDst, nSrc, nil
}

type tableEncoder struct{ *tableOf }

func (tableEncoder) Reset() {}

// Transform encodes src.
func (e tableEncoder) Transform(dst, src []byte, atEOF bool) (nDst, nSrc int, err error) {
	for nSrc < len(src) {
		if nDst == len(dst) {
			return nDst, nSrc, transform.ErrShortDst
		}
		c, n := utf8.DecodeRune(src[nSrc:])
		b, ok := byte(c), c < utf8.RuneSelf
		if !ok {
			b, ok = e.bytes[c]
		}
		switch {
		case ok:
		case c == utf8.RuneError && n == 1 && !atEOF && !utf8.FullRune(src[nSrc:]):
			return nDst, nSrc, transform.ErrShortSrc
		default:
			return nDst, nSrc, errMissing
		}
		dst[nDst] = b
		nDst, nSrc = nDst+1, nSrc+n
	}
	return nDst, nSrc, nil
}

// errMissing says that an encoding lacks a character.
var errMissing = errors.New("the encoding has no such character")

// tables are encodings of older systems, after the mappings that the Unicode Consortium publishes
// (unicode.org/Public/MAPPINGS/VENDORS). They are told apart from their neighbours, and can be asked for.
var tables = []named{
	{"IBM737", newTable("ΑΒΓΔΕΖΗΘΙΚΛΜΝΞΟΠΡΣΤΥΦΧΨΩαβγδεζηθικλμνξοπρσςτυφχψ░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀ωάέήϊίόύ" +
		"ϋώΆΈΉΊΌΎΏ±≥≤ΪΫ÷≈°∙·√ⁿ²■\u00a0"), true},
	{"IBM775", newTable("ĆüéāäģåćłēŖŗīŹÄÅÉæÆōöĢ¢ŚśÖÜø£Ø×¤ĀĪóŻżź”¦©®¬½¼Ł«»░▒▓│┤ĄČĘĖ╣║╗╝ĮŠ┐└┴┬├─┼ŲŪ╚╔╩╦╠═╬Žąčęėįšųūž┘┌█▄▌▐▀ÓßŌŃõÕµń" +
		"ĶķĻļņĒŅ’\u00ad±“¾¶§÷„°∙·¹³²■\u00a0"), true},
	{"IBM857", newTable("ÇüéâäàåçêëèïîıÄÅÉæÆôöòûùİÖÜø£ØŞşáíóúñÑĞğ¿®¬½¼¡«»░▒▓│┤ÁÂÀ©╣║╗╝¢¥┐└┴┬├─┼ãÃ╚╔╩╦╠═╬¤ºªÊËÈ\ufffdÍÎÏ┘┌█▄¦Ì▀ÓßÔ" +
		"ÒõÕµ\ufffd×ÚÛÙìÿ¯´\u00ad±\ufffd¾¶§÷¸°¨·¹³²■\u00a0"), true},
	{"IBM861", newTable("ÇüéâäàåçêëèÐðÞÄÅÉæÆôöþûÝýÖÜø£Ø₧ƒáíóúÁÍÓÚ¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτ" +
		"ΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u00a0"), true},
	{"IBM869", newTable("\ufffd\ufffd\ufffd\ufffd\ufffd\ufffdΆ\ufffd·¬¦‘’Έ―ΉΊΪΌ\ufffd\ufffdΎΫ©Ώ²³ά£έήίϊΐόύΑΒΓΔΕΖΗ½ΘΙ«»░▒▓│┤ΚΛΜΝ╣║" +
		"╗╝ΞΟ┐└┴┬├─┼ΠΡ╚╔╩╦╠═╬ΣΤΥΦΧΨΩαβγ┘┌█▄δε▀ζηθικλμνξοπρσςτ΄\u00ad±υφχ§ψ΅°¨ωϋΰώ■\u00a0"), true},
	{"IBM720", newTable("\u0080\u0081éâ\u0084à\u0086çêëèïî\u008d\u008e\u008f\u0090\u0651\u0652ô¤\u0640ûù\u0621\u0622\u0623\u0624£" +
		"\u0625\u0626\u0627\u0628\u0629\u062a\u062b\u062c\u062d\u062e\u062f\u0630\u0631\u0632\u0633\u0634\u0635«»" +
		"░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀\u0636\u0637\u0638\u0639\u063a\u0641µ\u0642\u0643\u0644" +
		"\u0645\u0646\u0647\u0648\u0649\u064a≡\u064b\u064c\u064d\u064e\u064f\u0650≈°∙·√ⁿ²■\u00a0"), true},
	{"IBM1125", newTable("АБВГДЕЖЗИЙКЛМНОПРСТУФХЦЧШЩЪЫЬЭЮЯабвгдежзийклмноп░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀рстуфхцч" +
		"шщъыьэюяЁёҐґЄєІіЇї·√№¤■\u00a0"), true},
	{"x-mac-ce", newTable("ÄĀāÉĄÖÜáąČäčĆćéŹźĎíďĒēĖóėôöõúĚěü†°Ę£§•¶ß®©™ę¨≠ģĮįĪ≤≥īĶ∂∑łĻļĽľĹĺŅņŃ¬√ńŇ∆«»…\u00a0ňŐÕőŌ–—“”‘’÷◊ōŔŕŘ‹›řŖŗŠ‚" +
		"„šŚśÁŤťÍŽžŪÓÔūŮÚůŰűŲųÝýķŻŁżĢˇ"), true},
	{"x-mac-croatian", newTable("ÄÅÇÉÑÖÜáàâäãåçéèêëíìîïñóòôöõúùûü†°¢£§•¶ß®Š™´¨≠ŽØ∞±≤≥∆µ∂∑∏š∫ªºΩžø¿¡¬√ƒ≈Ć«Č…\u00a0ÀÃÕŒœĐ—“”‘’÷◊\ufffd©⁄€‹›" +
		"Æ»–·‚„‰ÂćÁčÈÍÎÏÌÓÔđÒÚÛÙıˆ˜¯πË˚¸Êæˇ"), true},
	{"x-mac-romanian", newTable("ÄÅÇÉÑÖÜáàâäãåçéèêëíìîïñóòôöõúùûü†°¢£§•¶ß®©™´¨≠ĂȘ∞±≤≥¥µ∂∑∏π∫ªºΩăș¿¡¬√ƒ≈∆«»…\u00a0ÀÃÕŒœ–—“”‘’÷◊ÿŸ⁄€‹›Țț‡·‚" +
		"„‰ÂÊÁËÈÍÎÏÌÓÔ\ufffdÒÚÛÙıˆ˜¯˘˙˚¸˝˛ˇ"), true},
	{"x-mac-turkish", newTable("ÄÅÇÉÑÖÜáàâäãåçéèêëíìîïñóòôöõúùûü†°¢£§•¶ß®©™´¨≠ÆØ∞±≤≥¥µ∂∑∏π∫ªºΩæø¿¡¬√ƒ≈∆«»…\u00a0ÀÃÕŒœ–—“”‘’÷◊ÿŸĞğİıŞş‡·‚" +
		"„‰ÂÊÁËÈÍÎÏÌÓÔ\ufffdÒÚÛÙ\ufffdˆ˜¯˘˙˚¸˝˛ˇ"), true},
	{"x-mac-greek", newTable("Ä¹²É³ÖÜ΅àâä΄¨çéèêë£™îï•½‰ôö¦€ùûü†ΓΔΘΛΞΠß®©ΣΪ§≠°·Α±≤≥¥ΒΕΖΗΙΚΜΦΫΨΩάΝ¬ΟΡ≈Τ«»…\u00a0ΥΧΆΈœ–―“”‘’÷ΉΊΌΎέήίόΏύαβ" +
		"ψδεφγηιξκλμνοπώρστθωςχυζϊϋΐΰ\u00ad"), true},
	{"x-mac-icelandic", newTable("ÄÅÇÉÑÖÜáàâäãåçéèêëíìîïñóòôöõúùûüÝ°¢£§•¶ß®©™´¨≠ÆØ∞±≤≥¥µ∂∑∏π∫ªºΩæø¿¡¬√ƒ≈∆«»…\u00a0ÀÃÕŒœ–—“”‘’÷◊ÿŸ⁄€ÐðÞþý·‚" +
		"„‰ÂÊÁËÈÍÎÏÌÓÔ\ufffdÒÚÛÙıˆ˜¯˘˙˚¸˝˛ˇ"), true},
}

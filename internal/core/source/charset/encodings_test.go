package charset

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLettersOfTables: letters that tell each of the tables from its neighbours, by their bytes.
func TestLettersOfTables(t *testing.T) {
	for _, c := range []struct{ name, bytes, want string }{
		{"IBM737", "\x80\x97\xe1", "ΑΩά"}, {"IBM775", "\xd0\xd1\xd2\xd3", "ąčęė"}, {"IBM857", "\x8d\x98\xa7\xa6", "ıİğĞ"},
		{"IBM861", "\x8b\x8c\x8d", "ÐðÞ"}, {"IBM869", "\x86\xa4\xd6", "ΆΑα"}, {"IBM720", "\x9f\xa0\xe7", "ابق"},
		{"IBM1125", "\xf2\xf4\xf6\xf8", "ҐЄІЇ"}, {"x-mac-ce", "\x84\x88\xe4\xb8", "Ąąšł"}, {"x-mac-croatian",
			"\xa9\xb9\xc8\xf0", "ŠšČđ"},
		{"x-mac-romanian", "\xaf\xbf\xde\xdf", "ȘșȚț"}, {"x-mac-turkish", "\xda\xdb\xdc\xdd", "Ğğİı"},
		{"x-mac-greek", "\xb0\xe1\xf7", "Αας"}, {"x-mac-icelandic", "\xdc\xdd\xde\xdf", "ÐðÞþ"},
		{"IBM850", "\x84\xe1\x9b", "äßø"}, {"IBM852", "\xa5\x86\x98", "ąćś"}, {"IBM866", "\x80\xef\xf0", "АяЁ"}, {"KOI8-R",
			"\xc1\xe1", "аА"},
		{"macintosh", "\x8a\xa7\x8e", "äßé"}, {"windows-1257", "\xe0\xe8\xe6", "ąčę"}, {"Big5", "\xa4\xa4", "中"}, {"EUC-KR",
			"\xb0\xa1", "가"},
		{"GB18030", "\xd6\xd0", "中"}, {"EUC-JP", "\xc6\xfc", "日"}, {"Shift_JIS", "\x93\xfa", "日"},
	} {
		e, err := Named(c.name)
		require.NoError(t, err, c.name)
		got, err := e.NewDecoder().String(c.bytes)
		require.NoError(t, err)
		assert.Equal(t, c.want, got, c.name)
		back, err := e.NewEncoder().String(got)
		require.NoError(t, err)
		assert.Equal(t, c.bytes, back, c.name)
	}
}

// TestTextsOfOneKindAreTold: a text of everyday words is told in the encoding of its language, and none of its
// neighbours is.
func TestTextsOfOneKindAreTold(t *testing.T) {
	for _, c := range []struct{ name, text string }{
		{"windows-1252", "Müller Größe Straße Bäcker König Jürgen Brücke Öl Gebäude Prüfung Löschen Schlüssel"},
		{"IBM850", "Müller Größe Straße Bäcker König Jürgen Brücke Öl Gebäude Prüfung Löschen Schlüssel"},
		{"windows-1250", "łódź Gdańsk Poznań Białystok październik święto żółty ręka pięć sześć źródło ćma"},
		{"ISO-8859-2", "łódź Gdańsk Poznań Białystok październik święto żółty ręka pięć sześć źródło ćma"},
		{"IBM852", "łódź Gdańsk Poznań Białystok październik święto żółty ręka pięć sześć źródło ćma"},
		{"windows-1251", "судно причал груз лоцман агент порт общество компания январь"},
		{"KOI8-R", "судно причал груз лоцман агент порт общество компания январь"},
		{"IBM866", "судно причал груз лоцман агент порт общество компания январь"},
		{"Shift_JIS", "神戸港 船名 横浜市 はやぶさ カモメ 株式会社 住所 電話番号 登録番号"},
		{"EUC-KR", "부산항 주식회사 전화번호 서울특별시 선박 화물 학교 병원 대한민국"},
		{"GB18030", "上海港 有限公司 电话号码 北京市 船名 货物 学校 医院 中国 广州"},
		{"Big5", "高雄港 有限公司 電話號碼 台北市 船名 貨物 學校 醫院 中國 台灣"},
	} {
		e, err := Named(c.name)
		require.NoError(t, err)
		raw, err := e.NewEncoder().String(c.text)
		require.NoError(t, err)
		all, sure := Judge([]byte(raw))
		got, err := all[0].Encoding.NewDecoder().String(raw)
		require.NoError(t, err)
		assert.Equal(t, c.text, got, "%s, likeliest %s", c.name, all[0].Name)
		assert.True(t, sure, c.name)
	}
}

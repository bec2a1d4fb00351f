package charset

import (
	"strconv"
	"unicode"
	"unicode/utf8"
)

// A tongue is a language, by the letters beyond ASCII that it is written with, and
// how many of a thousand each is; or, where it has too many of them, the most
// frequent ones in their order. They were counted in names of countries, languages
// and currencies, and in manuals.
type tongue struct {
	name, letters string

	weights map[rune]float64 // share of the letters beyond ASCII
	script  *unicode.RangeTable
}

var tongues = []*tongue{
	{name: "German", letters: "ü394ä292ö162é98ß53"},
	{name: "French", letters: "é674è105à60ê33î31ï22ç19ô15â12ü5ù4û4ë4œ4æ4ÿ4"},
	{name: "Spanish", letters: "ú231á230ó192í161é148ñ35ü4"},
	{name: "Italian", letters: "è393à239é177ù63ò58ó34ì30î6"},
	{name: "Portuguese", letters: "ú175ã164á126é101í100ê96ç86ó65â47õ21ô10à4ü4"},
	{name: "Dutch", letters: "ë265é241á143í105ó78ï65ö45ü28è25ê4"},
	{name: "Swedish", letters: "ä474ö257å215é48ü6"},
	{name: "Danish", letters: "æ395ø262å213é101ö18ä11"},
	{name: "Norwegian", letters: "ø492å429æ39é29è4ò4ô4"},
	{name: "Finnish", letters: "ä806ö90š70ž30å4"},
	{name: "Icelandic", letters: "í294ð198á158ó108ý83ú81ö23æ21þ20é14"},
	{name: "Catalan", letters: "à282ú211è178í106ü93ò61ó30ç17é14ï8"},
	{name: "Polish", letters: "ł187ę154ż136ó129ą120ń112ś100ć51ź11"},
	{name: "Czech", letters: "á212š172í166é112č63ý61ř59ž57ě53ů17ú9ó5ň5ť4ď4"},
	{name: "Slovak", letters: "á272č251é97š84ž73í61ý51ó32ľ21ú19ň9ä8ť6ď4ô4ŕ4ĺ4"},
	{name: "Hungarian", letters: "á379é230ö107ó89í81ü39ő39ú28ű8"},
	{name: "Slovene", letters: "š477č416ž107"},
	{name: "Croatian", letters: "č414ž287š266ć16đ16"},
	{name: "Romanian", letters: "ă592ș139ț114î59â37ş139ţ114é5"},
	{name: "Albanian", letters: "ë897ç103"},
	{name: "Lithuanian", letters: "ų403ė202š140č110ž79ū54į4ą4ę4"},
	{name: "Latvian", letters: "ā342š177ī124ē78ņ63ž62č48ļ36ū36ģ18ķ16"},
	{name: "Estonian", letters: "š301õ208ü186ä146ž129ö30"},
	{name: "Turkish", letters: "ı435ç140ü132ş113ğ102ö66â4î4û4"},
	{name: "Russian", letters: "а109и81о74е66с66н65р60к57т49л43в33у28д27м27й26я26п23б21г17" +
		"з15ы14ь13ч10х8ж7ф6ц5ш5э5ю5щ4ъ4ё4"},
	{name: "Ukrainian", letters: "а121н80о77і56е53к51р50с45т43в41и39л36у35д34м34п26ь22б21я20" +
		"г18з17й15х10ч10ж7ц7ш6ф5є5щ4ю4ї4ґ4"},
	{name: "Bulgarian", letters: "а122и119к76р70с70н69е66о59л44т38б30у30в28д26м23п22г19я15" +
		"з11й10х7ц7ч7ж6ф6ъ5ш4щ4ь4ю4"},
	{name: "Belarusian", letters: "а174н76р65к58і58с56л42т33е32у32я32д30м30о30э28ы27б25в25г23" +
		"п20з12й12х11ц11ь11ў9ч8ж7ш7ф6ё5ю4"},
	{name: "Serbian", letters: "а136и96е78о74н65р62к55с52т41у40л36в32д30п29ј29" +
		"м28б21г18з17ц10ш10ч8ф5х5њ5ж4љ4ћ4ђ4џ4"},
	{name: "Macedonian", letters: "а148и107р73е68к67н62о52л51с51у40т39б37в31п30ј25м23д22г16" +
		"ф6ц6з5ж4х4ч4ш4њ4љ4ќ4ѓ4џ4ѕ4"},
	{name: "Greek", letters: "α111ο76ι69τ61ν58ε53κ52ρ52σ44μ42λ38ς31η31ά29γ27ί27π27" +
		"υ25δ20ή17έ14β11ό11ω10χ10ώ7φ7ζ6ύ5θ5ξ4ϊ4ψ4ϋ4ΐ4" +
		"ΰ4"},
	{name: "Hebrew", letters: "י132ו115ה88א73ר69ל63נ54ק43ב42מ39ת33ס32פ32" +
		"ט31ג28ד28ש22ן16ז11ח8צ7ם6ע6כ5ף4ץ4ך4"},
	{name: "Arabic", letters: "ا161ي122ل103و79ر63ة56ن55م50ب31ج29ت29د26س25ك24ه21غ15ف12ز11أ9ش8ق8" +
		"إ6ط6ح5ع4ص4خ4ى4ئ4ث4آ4ض4ء4ذ4ظ4ؤ4"},
	{name: "Persian", letters: "ی180ا144و93ن71ر68م52ل41ه40ت39س34ک30د29ج28ب27گ16ز14پ12ش9ف8" +
		"آ7ق7ئ6چ5ع4ح4غ4خ4ص4ط4ژ4ذ4ث4ض4"},
	{name: "Thai", letters: "า116ร85เ72น68อ64ก52ล46ม38ต38ส34โ30ย29ซ29บ27ว26ด23ค18" +
		"ง17ะ16ป15ช14แ14ท11ณ10ห10จ9ธ9ฐ8ไ7ภ7ษ7ฟ6ฮ6พ5ศ3" +
		"ข2ถ2ใ2ผ2ญ2ฤ2ฉ2ำ2ฝ2ฑ2ฬ2ฏ2ฎ2ฌ2ฯ2"},
	{name: "Japanese", letters: "ンールアラ語ストリイのクマシドるすフをカタバにはロッジコィナしサブれでウプデレいまニとグオテチエてがェな国ガァムャダパュ" +
		"たさビ共和セキベこョモワハボメゴ定ミォきノかり文合ゥ字らヴズソケネ行ツうあもヤザ場ポ数ペよギ島ピ指っ使用表くヌ示そ力名ホ" +
		"みつ出け州ばせ諸ユ南変族中ヒヘわえ実北前だんめゼゲび入以東連ヨ時設作対動民値全古部後最現成同引や主お列書込能ど在一参終照" +
		"領下的式王上及通方邦べ単換義要置関別可大了分特じ更代読番ず効必形正ゾ理常除準号有意存完ち報間標西区新開長続取含記生付先無" +
		"送外人切末例約初英環返空位自検情制内加会利言際処期各端他む明機目索補持起境本複法性日縮結へ削限始展解接道見算果子多述化圧" +
		"告次白台高適呼組保米山与追低者注度知再ろ点様詳元小公扱視得不立当所地割回頭直御問ぞ何認応選規味手衆細説構刻整計受ほ画状容"},
	{name: "Chinese, simplified", letters: "语尔省拉斯的亚克特马里尼和阿卡国加利巴文州纳德罗布瓦西个共用萨科区塔一兰中伊达件格比在多塞是维岛奥南县普洛数姆地如字果内" +
		"埃郡行府以不北雷有托吉可列索市这波安古定圣莱大法卢令出为基莫哈勒本鲁命诺米上夫帕苏什戈库时贝名选使符言项乌式曼那恩诸奇兹" +
		"博迪东哥提指将图威下来新示或伦希坦输邦蒂群沃它会林了参于扎表作韦标所泰沙日设到置前后被对梅值当约海瓜福伯页信则能主程都元" +
		"努摩显进代其桑赫面查入开耶锡部高息接皮目顿器并同要河回杜通丹得丁号森序美金汉弗录察朗由属手穆盖路山印包茨佩方也义默变霍域" +
		"统者据户坎宗民存联单成返制模班计册第非隆土他解门自版分配别及动与量凯菲之系齐发杰王切保爱换士过艾从度登打编绍意压应而关给" +
		"没错肯乔泽堡码采样缩些你相因牙此雅济俄何划只写认位执任合蒙务密根误读富圭明建取准连间立每始重胡结就除种瑞佛台夏串劳支最英"},
	{name: "Chinese, traditional", letters: "語亞的國拉斯和爾克共尼馬利巴加古里阿中手西文特個用蘭德卡羅納系一瓦島達多檔字比在地布薩是案南維定哥塔以如列果吉式可使令有" +
		"法不伊元格及行索數科這大群洛米威聖出波為名時內命安美普那塞選摩約蘇提盧項諾指奧魯烏民來庫新曼本示設其瑞主北會托坦埃將或沙" +
		"帕資輸林漢它牙丹位者前非了於表屬到伯聯勒下印希夫合引哈瓜東義標面別號被當作所姆上值丁愛莫對王訊入查他變後土碼程日體頁立雷" +
		"士泰貝基顯則能雅符執茲度倫英荷器杜目都保要隆單並桑邦模件開高回俄同班赫由奇歐圖人路錄動預進臺分之返拿喬菲蒙計什冊成幾與方" +
		"門包努福朗給配密版關第言結換統編韓序森形料相過根錯蓋海頓恩紐從意啟金制壓得應何耳而富皮黎沒始樣取存縮些你此組重劃準洲除麥" +
		"肯澳玻撒圭置寫也任線原誤只讀夏瑪治柏堡建間每留混然就代連至子接登含敘諸芬未康喀坎山迪敦辛孟通理最史齊部直串尚道區世明供機"},
	{name: "Korean", letters: "어아국리르스이공화라니바카크트마시도나로타드지가제레루프사비미다파고인티코우오베부키네모에년디세자브그란소주투페와웨피탄" +
		"기토대남일메방민알슬중말수족보랑연노쿠과하왕위케데령테람러군경두누구조통팔달칸벨체히엘북만의탈버영갈온발냐포야랜단즈뉴몰" +
		"볼링치차슈덴핀독섬푸언랍골콜진동룬신요호유산콩은몬문전한멘안린회덜완폴예츠반및몽태터앙상흐튀론셈간팡올으잠운셔저클싱잔블" +
		"샤추탕필헤살질룩곤난힐글불켈무집후칼콰맨롬칠선델멕본캄얄셜왈합역얀킴게암밀월를림폰헝분쇼텔툼생샨텍턴당계엔콘원판틸랫퓌서" +
		"헨감홍특별행정논셸짐권커퀴들괌렘벵심콥풀친펠틴맥음할순셰극냉양캐적봉텐센솔채장실워압촐류삼밤첸촉딩듈종울현찰힌협빌긴뇨룰" +
		"낭목응없뉘용약셀풋닌표준템틀깃톡침총움확벤큐줄앤뮤롤립헬넥컷캔켄매츄헴욕퀘벡킨벰참교럽옥쿼렌뷔색슨해팜펀컬망쓰촨송좡앵귈"},
}

var scripts = []*unicode.RangeTable{unicode.Latin, unicode.Cyrillic, unicode.Greek, unicode.Hebrew, unicode.Arabic,
	unicode.Thai, unicode.Han, unicode.Hangul, unicode.Hiragana, unicode.Katakana}

// scriptOf is the script of a letter, or nil. Japanese has three.
func scriptOf(r rune) *unicode.RangeTable {
	for _, s := range scripts {
		if unicode.Is(s, r) {
			if s == unicode.Hiragana || s == unicode.Katakana {
				return unicode.Han
			}
			return s
		}
	}
	return nil
}

// weigh reads the letters.
func (t *tongue) weigh() {
	t.weights = map[rune]float64{}
	rank := 0
	for s := t.letters; s != ""; {
		r, n := utf8.DecodeRuneInString(s)
		s = s[n:]
		digits := 0
		for digits < len(s) && s[digits] >= '0' && s[digits] <= '9' {
			digits++
		}
		if digits > 0 {
			k, _ := strconv.Atoi(s[:digits])
			t.weights[r] = float64(k) / 1000
			s = s[digits:]
		} else {
			t.weights[r] = 0.18 / float64(rank+8) // as words of all languages fall off
		}
		rank++
		if t.script == nil {
			t.script = scriptOf(r)
		}
	}
}

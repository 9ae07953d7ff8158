package charset

// common has words of everyday texts for the languages whose names of countries say too little of them: what words end
// in, and what letters stand beside those that aren't ASCII.
var common = map[string]string{
	"de": "für über wäre können möglich müssen größe straße außer weiß heißt groß gemäß schließen fußgänger gebäude geschäft gerät hälfte jährlich käufer " +
		"lösung löschen menü mühle müller nächste nötig öffnen öl österreich plätze prüfung qualität rückgabe sätze schäden schön schlüssel spät stück süd tätig " +
		"träger tür übrig übung verfügung vermögen vollständig vorschläge während wände wörter zählen zurück züge grün fünf zwölf brücke hafenbehörde " +
		"bräuche grüße höhe länge köln münchen düsseldorf jürgen günther schröder krüger jäger böhm häfler bäcker weiß könig strauß ändern äußern",
	"fr": "à été être même très après déjà où là ça français société numéro téléphone adresse réf état août février décembre qualité quantité générale " +
		"département préfecture santé sécurité métro hôtel hôpital forêt fenêtre tête fête prêt intérêt créé payée reçu reçue façon leçon garçon maçon naïf maïs noël " +
		"cœur œuvre sœur bœuf vœux père mère frère élève règle siècle pièce première dernière année journée arrivée entrée durée région réseau système problème " +
		"modèle matière rivière lumière célèbre cérémonie détail développé échange école économie élément énergie équipe étage étranger événement médecin mémoire " +
		"ménage opération période préparé présent procédé propriété publié régime répondit résultat sélection série spécial théâtre unité vérité étaient disaient " +
		"bâtiment château âge pâte tâche côte dôme contrôle rôle dîner île maître connaître août goût sûr mûr brûler hélène rené andré françois jérôme benoît chloé zoé léa raphaël",
	"es": "año años niño niña señor señora mañana español españa más también después está están aquí allí así día días todavía según sólo número teléfono dirección " +
		"razón nación estación información población educación administración dirección acción canción corazón unión región camión jamón ladrón habitación sesión " +
		"país países café jamás atrás inglés francés interés través quizá será podrá había tenía podía quería sería hacía compañía economía energía policía " +
		"área árbol ámbito último única público política música médico fábrica página máquina técnico crédito depósito código título capítulo vehículo artículo " +
		"lunes miércoles sábado josé maría garcía lópez martínez rodríguez pérez sánchez gómez fernández hernández díaz muñoz núñez peña ibáñez álvarez jiménez " +
		"pingüino vergüenza cigüeña antigüedad él tú mí sí qué cómo cuándo dónde cuál quién además algún ningún común",
	"pt": "não são então mão pão irmão irmã manhã amanhã maçã avião coração informação população educação administração situação nação estação direção ação " +
		"ações informações relações condições milhões opções também até você já só está estão aí lá após através português francês inglês três mês país " +
		"número telefone endereço preço serviço começo espaço março cabeça força praça diferença segurança criança lança água área média história memória " +
		"ônibus econômico júnior josé joão antónio conceição gonçalves magalhães guimarães simões luís inês andré mário lúcia será terá poderá fará fariam " +
		"fôssemos cantávamos falávamos comêssemos índice página código título público técnico médico câmara português açúcar avó avô pé café",
	"it": "è perché più può già così città università qualità quantità società attività però sarà farà dirà potrà verrà avrà andrà vivrà porterà troverà arriverà " +
		"andò portò trovò arrivò parlò cantò comprò lasciò cominciò mangiò pagò finì partì sentì capì costruì lunedì martedì mercoledì giovedì venerdì caffè papà virtù " +
		"gioventù tribù laggiù lassù né sé poiché affinché benché finché verità libertà realtà volontà età metà bontà felicità novità velocità possibilità " +
		"parlerò porterò farò dirò sarò andrò finirò dormirò libererà penserà crederò chiuderò cioè tè dà là lì sì giù nicolò",
	"nl": "één geïnteresseerd ideeën zeeën knieën coördinatie coöperatie reünie reële financiële officiële commerciële efficiënt ingrediënt patiënt cliënt client " +
		"variëren reageren geïmporteerd geëxporteerd vacuüm naïef maïs egoïst beïnvloeden poëzie israël italië belgië daniël michaël café première scène crème " +
		"hé vóór crèche enquête geüniformeerd coöptatie tweeëntwintig drieën industriële materiële provinciën",
	"sv": "och är för från på så även än när där här gör får går står säger måste också någon något några många både små stora större störst först år månad vecka " +
		"gång ålder område språk båt båtar hamn hamnområde kå pojkarna väg vägen dörr hörn öppna över överallt under ändå ändra ägare äldre äpple första två tre " +
		"fråga svår början kött mjölk rött blått grön höst vår sjö ö ön öar göteborg malmö örebro västerås linköping jönköping umeå luleå åsa björn sören " +
		"läkare lärare länk lägga läsa läser kläder pengar människa människor städer ställe behöver köpa köper söker tänker vänner är",
	"da": "på når så også få går står får år måned gård gården båd både både åben ål måde område sprog spørgsmål håb forår børn dør større først før gør " +
		"køb købe købt øje øjne ø øer øl sø søer søn grøn rød brød mælk læge lære læse læser være været værd sæk ære æble æg hæve nær næste næsten træ " +
		"dræbt kære færge færgen jærn mærke forældre københavn ålborg århus ødegård sørensen jørgen kjær bæk østergaard nørregade vestergård skær græs",
	"nb": "på når så også få går står får år måned gård gården både åpen måte område språk spørsmål vår barn dør større først før gjør kjøp kjøpe kjøpt øye øyne " +
		"øy øyer øl sjø søster sønn grønn rød brød nær være vært lære lese læse ære egg hæ tromsø bodø ålesund sørlandet østlandet bjørn jørgen håkon åse kåre " +
		"ødegård sæther bærum færder værnes kjære første høst mørk smør kjøtt tømmer fjære",
	"fi": "että niin mikä tämä nämä sinä minä hän häntä heitä meitä myös jälkeen ennen päivä päivää vähän enemmän työ työtä yö öljy äiti isä mies tyttö pöytä " +
		"käyttö käyttää käyttäjä määrä määrää tärkeä kesä talvi kevät syksy hyvä hyvää hyvin pitää pitäisi tehdä näkee nähdä lähtee lähellä täällä siellä " +
		"sää säätiö ääni ääntä väri väriä kyllä kylä kylässä järvi järvellä mäki mäen jyväskylä hämeenlinna mäkinen hämäläinen mäkelä lehtimäki yötön äläkää åbo",
	"is": "og það að í á ég þú við þið hún hann þau þeir þær maður kona barn börn land ár ára mánuður dagur vika tími góður góð gott stór lítill " +
		"nýr gömul fólk hús húsið höfn höfnin skip skipið báts bátur sjór fjörður fjöll vötn vík víkin reykjavík akureyri þór þóra sigurður guðrún jón ólafur " +
		"björn ásta íslenskur þýskur verður verð verði hafði sagði fékk ætla æska öll önnur einn tvær þrjú fjögur sjö átta níu tíu hæð mjög svæði",
	"ca": "és són està estan també després però perquè així això allò més què com número adreça telèfon català españa plaça força raó nació informació " +
		"població direcció estació administració relació país països història memòria farmàcia ciència gràcies mòbil música pàgina màquina còdig títol públic " +
		"tècnic mèdic família àrea època església dència col·legi paral·lel intel·ligent excel·lent vint-i-cinc àvia arreu núria jordi josé martí " +
		"garcía pérez llorenç françesc estació cançó lliçó avió camió ensenyà cantà començà trobà donà parlàveu cantàrem aniràs tindrà podrà",
	"pl": "się jest są był była być będzie może można który która które także również też już jeszcze zawsze więc właśnie każdy wszystko człowiek ludzi ludźmi " +
		"dzień tydzień miesiąc rok września października grudnia święto kościół szkoła miasto łódź łodzi poznań gdańsk gdynia wrocław kraków szczecin białystok " +
		"rzeszów toruń śląsk śląska województwo spółka spółki ilość wartość jakość powierzchnia ulica świętokrzyska długość szerokość wysokość część części " +
		"źródło źle późno później żaden żona życie życia żeby że mąż męża ząb zęby ręka ręką ręce głowa głowę dziecko dziećmi pięć sześć dziesięć sto tysiąc " +
		"zł złoty złotych cenę stronę matkę ojcem pracę pracą rzeczą drogą sprawą nową nowy nowych małgorzata łukasz paweł michał stanisław wójcik kamiński " +
		"wiśniewski kowalczyk wieczorek zając król dąbrowski zieliński szymański woźniak jabłoński mógł mogła robił robiła poszedłem byłyśmy zrobić powiedzieć iść",
	"cs": "že být bude není který která které také také ještě už jako při před přes proti příští další každý všechny všech člověk lidé lidí děti dítě žena muž " +
		"den týden měsíc rok září říjen únor březen květen červen červenec středa čtvrtek pátek neděle město města městě země zemi škola školy náměstí ulice " +
		"číslo čísla částka množství velikost délka šířka výška ředitel úřad úřadu společnost společnosti výroba služba služeb obchodní řízení zákazník " +
		"přístav loď lodě lodí řeka řeky dříve později dobře špatně rychle říci řekl přišel odešel dělat dělá mít měl měla chtít chtěl vědět věděl " +
		"dvě tři čtyři pět šest devět tisíc novák nováková dvořák dvořáková černý procházka kučera veselý horák němec šťastný ťuk ďábel loďka plzeň děčín ústí brně",
	"sk": "že byť bude nie ktorý ktorá ktoré tiež ešte už ako pri pred cez proti ďalší ďalej každý všetky všetkých človek ľudia ľudí deti dieťa žena muž " +
		"deň týždeň mesiac rok október február streda štvrtok piatok nedeľa mesto mestá zem škola školy námestie ulica číslo čísla množstvo veľkosť dĺžka šírka výška " +
		"riaditeľ úrad spoločnosť spoločnosti výroba služba obchodný riadenie zákazník prístav loď lode rieka povedať povedal prišiel odišiel robiť mať mal chcieť " +
		"vedieť vedel môcť môže dva tri štyri päť šesť deväť desať tisíc stôl nôž kôň vôľa môj tvoj svoj naša vaša košice žilina prešov piešťany kováč horváth varga " +
		"časť časti činnosť možnosť vlastnosť rýchlosť bezpečnosť zodpovednosť prijať začať vziať vyhľadať použiť vytvoriť mäso pamäť vŕba vĺčik",
	"hu": "és egy hogy nem van volt lesz már még csak után előtt között alatt fölött által így úgy ahogy ő őt ők jó rossz nagy kicsi új régi első második " +
		"nap hét hónap év évben január február március május június július szeptember október hétfő szerda csütörtök péntek szombat vasárnap város városok ország " +
		"országos út utca tér száma szám összeg mennyiség méret hosszúság szélesség magasság igazgató hivatal társaság gyártás szolgáltatás kereskedelmi ügyfél " +
		"kikötő hajó hajók folyó könyv könyvek bővebben később jól gyorsan mondta jött ment csinál kér kért kérdés felelősség tudott lehetőség között fő fű " +
		"három négy öt hét nyolc kilenc tíz ezer győr kőszeg szűcs tóth szabó kovács horváth varga németh papp takács juhász mészáros molnár gyűjtemény " +
		"előző következő működő erdő mező idő ködösödő tükörfúrógép vezetőség kezdődően űrhajós ügyintéző",
	"hr": "već još može moći bit će što zašto tko gdje također između između uz više manje svaki čovjek ljudi žena muž dijete djeca dan tjedan mjesec godina " +
		"siječanj veljača ožujak travanj svibanj lipanj srpanj kolovoz rujan studeni prosinac četvrtak nedjelja grad općina županija šibenik čakovec požega " +
		"količina veličina dužina širina visina društvo društva tvrtka proizvođač usluga trgovački kupac luka brod brodovi rijeka kuća kuće noć noći pomoć moć " +
		"reći rekao došao otišao raditi četiri šest tisuću horvat kovačević babić marić jurić novak knežević vuković marković petrović božić đurić šimić " +
		"đak anđeo građanin rođen događaj također sljedeći riječ riječi vijeće dječak ključ puž križ žito život životinja",
	"sl": "že še že več lahko biti bo kaj zakaj kdo kje tudi med uz več manj vsak človek ljudje žena mož otrok dan teden mesec leto januar marec julij avgust četrtek " +
		"mesto občina količina velikost dolžina širina višina družba družbe podjetje proizvajalec storitev trgovski kupec pristanišče ladja ladje reka hiša hiše noč " +
		"moč pomoč reči rekel prišel odšel delati štiri šest tisoč novak horvat kovačič krajnc zupančič potočnik mlakar kos vidmar golob božič šuštar žagar " +
		"čas časa čez križ žival življenje učitelj šola šole otroški ključ lučka začeti končati obiščejo približno",
	"ro": "și în că să fără după până când este sunt era fost această acest aceasta lângă între către despre țară țări oraș orașe județ județul București Iași " +
		"Brașov Galați Timișoara Constanța Ploiești Pitești Bistrița Târgu Mureș număr numărul adresă stradă strada preț prețul cantitate mărime lungime lățime înălțime " +
		"societate producție piață viață dimineață seară noapte zi săptămână lună an împreună început sfârșit înainte învăța învățător școală școli copii băiat fată " +
		"mână pâine câine râu român românia română limbă măr păr văr cămașă mașină mâine cât tânăr bătrân întâi două trei șase șapte zece mii " +
		"popescu ionescu ștefan ștefănescu mărginean pătrașcu țepeș dumitrașcu ţara şi înţelege aşa faţă viaţă pieţe",
	"lt": "ir yra buvo bus kad kaip čia taip pat už prieš per dėl šis ši šie ją jį jų mūsų jūsų žmogus žmonės diena savaitė mėnuo metai šiandien rytoj " +
		"miestas miestų savivaldybė lietuvą lietuvių šiauliai panevėžys klaipėda alytus kiekis dydis ilgis plotis aukštis bendrovė įmonė įmonės gamyba paslauga " +
		"uostas laivas laivų upė upės namas mokykla vaikai vaikų žodis žodžių knyga knygų gražus gražių didelė mažą mažų galėti turėti būti žinoti žino " +
		"keturi šeši tūkstantis kazlauskienė jankauskas petrauskaitė žukauskas stankevičius butkutė paulauskienė mėlynė žąsis ąžuolas ėjęs įėjo ūkis ūkininkų",
	"lv": "un ir bija būs ka kā šeit arī par pēc pirms caur šis šī šie viņš viņa mūsu jūsu cilvēks cilvēki diena nedēļa mēnesis gads šodien rīt pilsēta pilsētas " +
		"novads rīga rīgas jūrmala daugavpils liepāja ventspils jēkabpils daudzums lielums garums platums augstums sabiedrība uzņēmums ražošana pakalpojums osta kuģis kuģi " +
		"upe mājas māja skola bērni vārds grāmata grāmatas skaists liels mazā varēt būt zināt četri seši tūkstotis bērziņš kalniņš ozoliņš jansons liepiņš krūmiņš " +
		"dzīvot dzīve strādāt runāt rakstīt lasīt gājis braukšana sēdēt jūra ūdens ēka īss ļoti ķēde ņemt ģimene žurnāls čūska",
	"et": "ja on oli olema et kui ka veel juba ära üle alla pärast enne läbi öö päev nädal kuu aasta täna homme linn linna vald tänav number hulk suurus " +
		"pikkus laius kõrgus ettevõte tootmine teenus sadam laev laevad jõgi maja kool lapsed sõna raamat ilus suur väike võima pidama teadma neli viis kuus tuhat " +
		"tamm saar sepp mägi kask kukk rebane ilves pärn koppel põld jõesaar tõnu jüri ülo õnne kõik mõni võib võti küsimus nägu täis äri ööbik üks kümme šokolaad žanr",
	"tr": "ve bir bu şu için çok daha ile gibi kadar sonra önce değil olan olarak oldu olduğu şey şehir şehri ülke ülkesi ilçe köy köyü sokağı caddesi mahallesi " +
		"gün hafta ay yıl şubat mayıs ağustos eylül ekim kasım aralık salı çarşamba perşembe sayı sayısı miktar büyüklük uzunluk genişlik yükseklik müdür müdürlüğü " +
		"şirket şirketi üretim hizmet ticaret müşteri liman gemi gemisi ırmak ev evi okul çocuk çocuklar kadın adam kız oğul oğlu söz kitap güzel büyük küçük " +
		"yapmak yaptı gitti geldi aldı verdi istiyor biliyor dört altı yüz bin yılmaz kaya demir şahin çelik yıldız yıldırım öztürk aydın özdemir arslan doğan kılıç " +
		"çetin kara koç kurt özkan şimşek ayşe gülşen çiğdem uğur ışık ığdır istanbul izmir eskişehir ağrı diyarbakır şanlıurfa değişikliği anlaşıldığından",
	"ru": "и не что он на это как все она так его но они был быть уже еще или если только когда есть для можно нет был была было были этот который человек время " +
		"год день дело жизнь рука раз место лицо друг глаз вопрос дом сторона страна мир случай голова ребенок сила конец вид система часть город отношение женщина " +
		"деньги земля машина вода отец проблема час право нога решение дверь образ история власть закон война бог голос тысяча книга возможность результат ночь стол имя область " +
		"статья число компания народ семья область улица номер порт судно груз причал лоцман агент иванов петров сидоров кузнецов смирнов попов васильев соколов михайлов " +
		"новиков федоров морозов волков алексеев лебедев елена ольга татьяна наталья сергей андрей дмитрий общество ответственностью ограниченной говорить сказать знать стать " +
		"работать большой новый последний хороший российский московский санкт-петербург щётка подъезд объём январь февраль июнь июль",
	"uk": "і не що він на це як все вона так його але вони був бути вже ще або якщо тільки коли є для можна немає була було були цей який людина час рік день " +
		"справа життя рука раз місце обличчя друг око питання дім сторона країна світ місто вулиця номер порт судно вантаж область район київ львів харків одеса дніпро " +
		"запоріжжя вінниця чернівці шевченко коваленко бондаренко ткаченко кравченко їх її їжа ґрунт підприємство товариство відповідальністю обмеженою об'єднання січень " +
		"лютий березень квітень травень червень липень серпень вересень жовтень листопад грудень понеділок",
	"bg": "и не че той на това как всички тя така него но те беше бъде вече още или ако само когато е за може няма този който човек време година ден дело живот ръка път място " +
		"лице друг око въпрос къща страна свят случай глава дете сила край вид система част град отношение жена пари земя кола вода баща проблем час право крак решение врата " +
		"образ история власт закон война бог глас хиляда книга възможност резултат нощ маса име област улица номер пристанище кораб товар българия софия пловдив варна бургас " +
		"иванов петров георгиев димитров стоянов николов ангелов дружество отговорност ограничена юли август понеделник седмица щастие ъгъл бъдещ",
	"el": "και το η ο να του της με για είναι που σε από δεν θα τον την στο στη ένα μια τα οι των αλλά όταν όπως πως αν μόνο έχει ήταν πολύ μετά πριν " +
		"άνθρωπος άνθρωποι χρόνος ημέρα εβδομάδα μήνας έτος έτους πόλη πόλης δήμος οδός αριθμός ποσό ποσότητα μέγεθος μήκος πλάτος ύψος εταιρεία εταιρείας παραγωγή " +
		"υπηρεσία πελάτης λιμάνι πλοίο πλοία ποταμός σπίτι σχολείο παιδί παιδιά λέξη βιβλίο ωραίος μεγάλος μεγάλη μικρός μπορεί πρέπει ξέρω λέω είπε ήρθε έφυγε " +
		"τρεις τέσσερα πέντε έξι επτά χίλια αθήνα θεσσαλονίκη πάτρα ηράκλειο λάρισα βόλος παπαδόπουλος γεωργίου νικολάου δημητρίου ιωάννης κωνσταντίνος μαρία ελένη " +
		"γιώργος νίκος ανώνυμη αττική ιανουάριος φεβρουάριος μάρτιος απρίλιος μάιος ιούνιος ιούλιος αύγουστος δευτέρα τρίτη τετάρτη πέμπτη παρασκευή σάββατο κυριακή",
	"he": "של את על לא זה הוא היא עם כי אם אבל גם כל רק יותר אחרי לפני היום מחר שנה חודש שבוע יום עיר רחוב מספר סכום כמות גודל אורך רוחב גובה חברה בעמ " +
		"ייצור שירות לקוח נמל אונייה אוניות נהר בית ספר ילד ילדים מילה ספר יפה גדול קטן יכול צריך יודע אמר בא הלך שלוש ארבע חמש אלף כהן לוי מזרחי פרץ ביטון " +
		"דהן אברהם פרידמן יוסף משה דוד שרה רחל תל אביב ירושלים חיפה באר שבע ראשון לציון פתח תקווה נתניה אשדוד ינואר פברואר מרץ מאי יוני יולי שני שלישי רביעי חמישי שישי שבת",
	"ar": "في من على إلى هذا هذه التي الذي كان كانت أن لا ما مع كل بعد قبل اليوم غدا سنة شهر أسبوع يوم مدينة شارع رقم مبلغ كمية حجم طول عرض ارتفاع شركة " +
		"إنتاج خدمة عميل ميناء سفينة سفن نهر بيت مدرسة طفل أطفال كلمة كتاب جميل كبير صغير يمكن يجب يعرف قال جاء ذهب ثلاثة أربعة خمسة ألف محمد أحمد علي حسن " +
		"عبد الله فاطمة القاهرة الرياض بغداد دمشق بيروت عمان يناير فبراير مارس مايو يونيو يوليو الاثنين الثلاثاء الأربعاء الخميس الجمعة السبت مسؤولية محدودة التجارة الدولية",
}

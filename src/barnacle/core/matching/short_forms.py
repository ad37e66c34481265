"""Given names and their short forms, in the spelling of `fold`: no capitals, no accents.

Put together for Barnacle from everyday knowledge of the languages named; no list of anybody's was copied. A name that
is missing here costs little: two spellings of it then count as different names, and nothing is merged.
"""

from __future__ import annotations

from functools import cache

# Each row is one name, other spellings of it, and the short forms its bearers are called by. Translations (John, Jan,
# Giovanni) are other names: two people of one family may well bear them.
_ROWS = """
abigail abby abbie | abraham abe | adelaide addie | agnes aggie | albert al bert bertie | alexander alex alec
sandy lex xander | alexandre alex | aleksander alex olek | aleksandr alex sasha | alexandra alex sandra sandy |
aleksandra alex ola sasha | alessandro alex sandro | alejandro alex ale | alfred alf fred alfie | alice ali |
alison ali | amanda mandy | andrew andy drew | andreas andi andy | anthony antony tony | antonio toni tony tonio
| anneliese anne liese | annemarie anne | arthur art artie | barbara barb babs barbie | bartholomew bart |
benjamin ben benny benji | bernard bernie | bernhard bernd | bertram bert | bridget bridie biddy | caroline
carrie caro | catherine katherine kathryn katharine cathy kathy kate katie kitty kath cath | katharina kathi
katja | ekaterina yekaterina katya | catarina cata | katarzyna kasia | charles charlie chuck chas | charlotte
lotte lottie charlie | christian chris | christina kristina chris chrissie tina | christine kristine chris
chrissie tina | christopher kristopher chris kit topher | christoph chris | constance connie | cornelius cor |
cornelis cor kees | daniel dan danny | daniela dani | danielle dani | david dave davy davey | deborah debra deb
debbie | dennis denis den denny | diana di | diane di | dietrich dieter | dmitri dmitry dmitriy dima | dominic
dominik dom | donald don donny | dorothy dot dottie dolly | dorothea dora thea | douglas doug | edward edvard ed
eddie ted teddy ned | eduardo edu lalo | eduard edi | edmund ed eddie ned | edwin ed eddie | eleanor elinor
ellie nell | elizabeth elisabeth elisabet liz beth betty lizzie eliza lisa libby bess elsie | emily em emmy |
emmanuel emanuel manny | manuel manu manny | ernest ernie | ernst erni | eugene gene | evgeny yevgeny zhenya |
evelyn evie | ferdinand ferdi | florence flo flossie | frances fran fanny | francesca fran franca | franziska
franzi | francis frank fran | francesco franco checco | francisco paco pancho | franciszek franek | frederick
frederic fred freddie freddy | friedrich fritz | fredrik frederik fredde | gabriel gabe | gabriela gabi gaby |
gabriele gabi | geoffrey jeffrey geoff jeff | george georgie | giorgio gio | gerald gerry jerry | gerard gerry |
gerhard gerd | gertrude gertie trudy | giovanni gianni vanni | giuseppe beppe peppe pino | gregory greg | gregor
greg | grzegorz grzes | guillermo memo | gustav gus | guadalupe lupe | hannah hanna | harold harry hal |
heinrich heinz heiner | hendrik henk | helen nell nellie | helena lena | elena lena | henry harry hank hal |
enrique kike quique | herbert herb bert | hubert bert | ignacio nacho | isabella izzy bella | isabel izzy bel
isa | ivan vanya | jacob jake | jakob jaki | jakub kuba | jacobus jaap koos | jacqueline jackie jacqui | james
jim jimmy jamie jem | jane janie | janet jan | janice jan | jennifer jen jenny jenni | jeremy jerry jem |
jessica jess jessie | jesus chuy | joanna jo joasia | joanne jo | johanna hanna jo | johannes hannes jo hans |
joachim jochen | john jon jack johnny jonny | jonathan jon jonny | jonas jon | jose pepe | joseph joe joey jo |
josef sepp jupp | josephine jo josie | joshua josh | judith judy jude | julia jules | julian jules | justin jus
| katrina trina | kenneth ken kenny | kimberly kimberley kim | konstantin kostya | lauren laurie | laurence
lawrence larry laurie | leonard len lenny leo leon | leonhard leo | leonardo leo | leopold leo poldi | lewis lew
| louis lou | luis lucho | luigi gigi | ludwig lutz | lillian lilian lily lil | louise lou | luise lulu | lucy
lucie lu | lydia liddy | madeleine madeline maddy | magdalena lena magda | malcolm mal | margaret maggie peggy
meg marge margie greta daisy | margarete margarethe gretel grete | margarita rita marga | malgorzata gosia |
maria mitzi masha | martha mattie | martin marty | martijn tijn | matthew matt matty | matthias matti hias |
mateusz mati | maurice mo | moritz mo | maximilian max | maxwell max | melanie mel | melissa mel lissa | michael
mike mick micky mickey mikey | miguel migue | mikhail misha | michelle shelly | michaela micha michi | mildred
millie | millicent millie | muhammad mohammed mohamed mohammad muhammed mo | nathaniel nathan nat nate | nathan
nat nate | natalia nataliya natasha nat | natalie nat | nicholas nicolas nick nicky | nikolai kolya | nikolaus
klaus niko | niklas nick | nicola nicky nikki | nicole nicky nikki | mikolaj miki | oliver ollie olly | olivia
liv livvy | pamela pam | patricia pat patty tricia trish patsy | patrick pat paddy | pauline polly | penelope
penny | peter pete | pedro perico | philip phillip phil pip | philippa pip pippa | philipp phil | felipe pipe |
priscilla cilla | prudence pru prue | rachel rach | raymond ray | rebecca becky bec becca | reginald reg reggie
| ricardo rico richi | richard rick dick ricky rich richie | robert rob bob bobby robbie bo | roberto berto |
roderick rod | rodney rod | roger rodge | roland rolly | ronald ron ronnie | rosemary rose rosie | rosalind ros
roz | rudolf rudolph rudi | russell russ rusty | salvador chava | salvatore toto turi | samantha sam sammy |
samuel sam sammy | sarah sara sally sadie | sebastian seb bastian basti | sergei sergey seryozha | sidney sydney
sid syd | sigmund siggi | solomon sol | sophia sofia sophie sofie | stanley stan | stanislaw stas staszek |
stephanie steph | stefanie steffi | stephen steven steve stevie | stefan steff | susan sue susie suzie suzy |
susanne suzanne sue susi | susanna suzanna sue susi | svetlana sveta | sylvester sly | tatiana tatjana tanya |
terence terrence terry | theodore theodor ted teddy theo | theresa teresa terry tess tessa resi | therese resi |
thomas tom tommy | tomasz tomek | timothy tim timmy | tobias tobi toby | ulrich uli ulli | ulrike uli | ursula
ulla uschi | valentina val | valerie val | vanessa ness | veronica ronnie | victor vic | viktor vitya | victoria
viktoria vicky vic tori | vincent vince vinny | vincenzo enzo | virginia ginny | vladimir wladimir vlad volodya
vova | walter walt wally | wilhelm willi willy | willem wim pim | wilhelmina mina minnie willa | william will
bill billy willy liam wills | winifred win winnie freda | yolanda yoli | zachary zack zach | zoltan zoli |
agnieszka aga | aleksei alexei alexey alyosha lyosha | alessandra sandra | anastasia nastya | andrzej jedrek |
anna anya | beatriz bea | boris borya | concepcion concha | cristina cris | cyril cy | dolores lola | fernanda nanda |
fernando nando | galina galya | giovanna gianna | irina ira | joaquim quim | krzysztof krzys | ludmila lyuda |
mercedes merche | montserrat montse | nadezhda nadia | olga olya | pavel pasha | piotr piotrek | rafael rafa |
rodrigo rodri | rosario charo | santiago santi | teresa tere | valentin valya | yuri yura | zbigniew zbyszek |
adelheid heidi | adriana adri | adrianus adriaan ad arie adrie | albrecht albert | aloysius alois loisl | anders
andy | antoine toine titi | antonie ton toon antoon teun | antonina tonia | arnaud nono | arnoldus arno nol |
augustin gus | bartholomaeus bartel | bartosz bartek | bartolomeo bart meo | beatrice bea bice | bedrich beda |
benedikt bene | bengt benke | bernadette detje | bogdan bodya | bogumil bogus | bohumil bohous | bronislaw
bronek | carlos charly carlitos | carolina caro lina | catherine catrine cathou | cecilia cilla ceci | cezary
czarek | christiaan chris | christina kicki stina kina | christoffel stoffel | claudia claudi | constantin
costel costica titi dinu | constantijn stijn | dariusz darek | dimitrios dimitris mitsos mimis | dimitra mimi |
dominika domi | dorota dorotka | eberhard ebbe | eduard edo edek | efthymia effie | ekaterina katya katyusha
katja | aikaterini katerina katina | eleni lena lenio | elisabet lisbet bettan elsa | elisabetta betta lisa |
elisabeth sissi elli lisbeth liesl | elzbieta ela | erzsebet erzsi bozsi zsoka | emilia mila emi | emmanouil
manolis manos | eric ricky | esperanza espe | estanislao tanis | eszter eszti | eugeniusz gienek | evangelos
vangelis | evangelia litsa | fatma fatos | federico fede | ferenc feri | ferdinand nand | filippo pippo |
florian flori | frantisek franta | frederik frits freek | gabor gabi | gabriele lele | gebhard gebi | georg jorg
schorsch gog | georges jojo | gheorghe gigi ghita | georgios giorgos yiorgos yorgos | gergely gergo | gerardus
gerard geert | gertruida truus | giacomo mimmo | gonzalo gonza | grigori grisha | gyorgy gyuri | guglielmo memo
| gunnar gunne | gustaaf staf | hedwig hedi hedy | helena hela helenka | henri riton | henryk heniek | hermann
mani | hieronymus jerome | hilde hildegard | hubert hubi | hugo huguito | ignatius ignaas | ildiko ildi | ilse
else | ingeborg inge | ingrid inga | ioana oana | ioannis giannis yannis yiannis | ion ionel nelu ionut | iosif
sifis | isabelle isa zaza | istvan pisti | izabela iza | jacques jacquot | jadwiga jadzia | jan janek janusz |
jan honza jenda | jaroslav jarda slavek | jaroslaw jarek | jarmila jarka | jean jeannot | jelena lena jela |
jerzy jurek | jiri jirka | joanna asia | joao joca jota | johan johnny joppe | johannes joop jan jannes | josef
pepa pepik | jose che zeca | josephus jef joost | jozef jozek jos | jozsef joska jozsi | julia yulia iulia
juliya yuliya | julianna juli | katalin kati kata | katerina katka kaca | katrien trien | kazimierz kazik |
konrad kurt | konstantinos kostas dinos kostis | konstanty kostek | kresimir kreso | kristof kris | kristina
tina kika | krystyna krysia | laszlo laci | leonidas leon | leopoldo polo | liudmila lyuda luda mila |
lieselotte lilo lotte | lorenzo renzo | lubomir lubos | lucjan lucek | ludovic ludo | luciano lucio | lukasz
luki | magdolna magdi | magdalene leni | maksim max | marek mareczek | margaretha greet griet gre | margarita
margo rita | margit manci | marguerite margot | maria marysia mania | maria mies ria riet mia | maria marika
maca | mariana ana | marie majka maruska | mario mayito | martin tinus | maurizio icio | maximiliano maxi |
mehmet memo memis | michal misa michalek | mihaly misi | mihail misu mihaita | miklos miki | mikael micke mikke
| mikolaj mikus | milos milosek | miroslav mirek mirko | miroslaw mirek | mirjana mira | monika moni | mustafa
mustik | nicolae nicu culae | nikolaos nikos | nikolaas klaas nico | nikolett niki | oleksandr sasha oleks
sashko | oleksandra sasha lesya | oleksiy oleks lyosha | orsolya orsi | oscar osky | ottilie tilly | panagiotis
panos takis | panagiota giota | paraskevi vivi voula | pascal kallou | patrik patte | pawel pawelek | petr petya
peta | petronella nel nelleke | petrus piet peer peter | philippe filou | piotr piotrus | pietro piero | pilar
pili | przemyslaw przemek | radoslaw radek | radoslav radek | raffaele lello raf | raimundo mundo | raquel kelly
| renata renatka | rene renatus | riccardo ricky | robert robi | roberto beto | roman romek | ruzena ruza |
ryszard rysiek | sandor sanyi | sebastiano bastiano | sebastiao bastiao tiao | semyon syoma | sergio checo |
sergiy serhiy seryozha | slawomir slawek | sofia sonya sofka | spyridon spyros | stanislav standa stas | stefan
stefek | stefania stefa | stephane steph | svetislav sveta | szczepan szczepek | tadeusz tadek | tamas tomi |
teodora dora tea | teodoro teo doro | terez teri | theodoros thodoris | theodorus theo dorus | thomas tommi |
tiziana titti | tomas tomasek tom | tonino toni | valeriu vali | vasile sile vasilica | vasilios vasilis |
vasily vasya | vera verochka | veronika vroni verka | viktoria vika | vilem vilda | vincenc cenek | vincent cent
| vincente chente | vitaly vitalik | vlastimil vlasta | vladislav vlad slava | vladislavs vlad | vojtech vojta |
vyacheslav slava | waldemar waldek | walther walt | wieslaw wiesiek | wladyslaw wladek | wojciech wojtek |
yevgenia zhenya | yekaterina katya | yelena lena | zdenek zdenda | zdzislaw zdzich | zofia zosia | zsuzsanna
zsuzsa zsuzsi | zvonimir zvone | ahmad ahmed ahmet | hasan hassan | hussein husain hossein huseyin | ibrahim
ebrahim | abdullah abdallah abdul | khaled khalid halid | layla leila leyla | mariam maryam meryem | omar umar
omer | said saeed sayed | yousef yusuf youssef yusef | zaynab zeinab zeynep | alasdair alastair alistair ally al
| aoife eva | bronagh bronah | caoimhe keeva | cormac mac | eamon eamonn ned | fionnuala nuala finola | padraig
paraic padraic pat paddy | seamus shay james | sean shaun shawn | siobhan shivaun | sorcha sally | aleksandar
aca sasha sasa | bozidar bozo | branislav brane | dragan draga | ivan ivica vanja | nikola nidzo | mladen mladja
| ljubica ljuba | zeljko zele | ana anica ani | aino aini | antti anttoni | juhani jussi juha | kaarina kaija |
kaarlo kalle | katariina kati katri | kristiina kirsi | leena leeni | matti matias | mikko mikael | pekka pekko
| timo timi | tapani tapsa | urpo urpi | veli veikko | aleksi ale | fredrik figge | gunilla nilla gulli | hakan
hasse | hans hasse | karl kalle charlie | karin kajsa | lars lasse | magnus mange | margareta maggan meta |
niklas nicke | nils nisse | olof olle | oskar osse | par pelle | per pelle | sigurd sigge | stig stickan | sven
svenne | tommy tompa | ulf uffe | jens jeppe | jesper jeppe | jorgen jorn | kristian kris | rasmus ras | ahmet
amet | emine emos | fatih fato | hatice hatce | ibrahim ibo | mustafa musti | suleyman sulo
"""

# Short forms that are as often given at the font: at one address John and Jack may be father and son.
_OFTEN_NAMES = """
alfie bella bernd charlie daisy dieter eliza ellie elsie enzo evie franco frank fritz gerd greta hanna hannes
hans harry heinz jack jake jamie jess jochen josh josie karl kate katie kim klaus lena leo leon liam lily lisa
lotte lucie maria max millie molly nathan nina pino polly ray rose rosie sally sandra sandro sofia sofie sophie
theo tina toby will
"""

# Names that are no short form of another here: what differs from one of these by a letter is another name, not a slip.
_OTHER_NAMES = """
abd ada adam adele adrian ahmed aida aino aisha akira alan alana alba alberta albin aldo alena ali alina allan alma
alva alvin amal amara amelia amina amir amy ana anastasia andrea angela angelika angelo angus anika anita anja
anka ann anna anne annette annika anouk antonia april ariel arjen arman arne arnold arturo asa asta astrid
audrey august aurora axel barry basil beata beate beatrice beatriz bela ben benedict bengt benita bent berit
bernadette beryl bettina bianca birger birgit birgitta birte bjarne bjorn boris brenda brendan brian bruce bruno
bryan camilla carina carla carmen carol carole carsten cecilia celia celine cesar chantal chen chiara chloe
ciara cindy claire clara clare claude claudia claudio clive colette colin conor craig cristina dagmar
dagny dale damian dana daniela dario darren dean debora declan delia denise derek desmond detlef dina dirk dora
doreen doris duncan dylan eberhard edda edgar edith eero egon eileen eino elaine elias elif elin elina elisa
elke ella ellen elmar elsa elvira emil emma enid eric erica erik erika erin erna erwin esra esther ethel eva
evan ewa fabian fatima fatma felix fiona flora florian frida frode gail gareth gary gavin gerald gerardo gerda
germaine gilbert giles gillian gina gisela giulia gladys glen glenn gloria gordon grace graham grant greta
gudrun guido gunnar gunther gwen hakan hanne hans harriet hassan hazel hector hedda hedwig heidi heike helga
helge helmut henriette hilary hilda hilde holger holly horst howard huda hussein ian ida idris ilona ilse imran
ina inez inga inge inger ingrid irina iris irma isaac isak isla ismail ivana ivar ivo ivy jana janina janine
janos jari jarle jasmin jason jens jesper jill jo joachim joakim joao jocelyn joel jonna jorge joris joy joyce
juha julio june jutta kaisa kamal kare karen kari karin karina karla karsten kasper keith kelly kerstin kevin
khalid kim kira kjell knut krystyna kurt kyle laila lana larissa lasse laszlo layla lea leena leila lennart
lesley leslie liam lidia lina linda linnea lionel livia lois lola lorna lorraine lothar lucian ludmila luz lynn
magnus maja malin manfred manuela mara marc marcel marcello marco marcus marek maren margareta mari mariana
mariko marina mario marion marisa marit marius mark marko markus marlene marta marten martina marvin mateja maud
maura maureen mauro mavis maya megan mehdi mehmet mercedes meryem mia mika mikko mila milan milena milo mina
mira mirjam mirko mohan moira mona monica monika morten muriel mustafa myra nadia nadine naomi nasrin neil nigel
nina noah noel nora norma norman odd oddvar ola olaf olav ole olga olof oluchi omar orla oscar osman otto owen
pascal patrice pavla pearl pedro per pernilla petra phoebe phyllis pia pierre pilar poul preben rafael ragnar
ragnhild raimund rainer ralf ralph ramona randi rania raul raya regina reidar reiner reinhard renata renate rene
rhona ricarda riitta rikke rita roberta roman rosa rosanna ross rowan roy ruben rune rupert ruth ryan sabine sabrina
said salma sami sandro sean selma shane sharon sheila shirley sigrid silke sinead siri solveig sonia sonja soren
stein stella stig stuart sunniva svein sven svend sverre sybil tamara tara tarik tatu teemu thea thelma thor
thora thorsten tiina tilda timo tina tomoko torben tore torsten tove trevor trine tristan trond troy tuula una
unni ute uwe valerio vanda vera verena vidar vilma viola violet vivian volker wanda warren wayne wendy werner
wolfgang xavier yan yannick yasemin yasmin yusuf yves yvette yvonne zara zeynep zita zoe
"""


_NONE: frozenset[int] = frozenset()


def forms_of(name: str) -> frozenset[int]:
    """The numbers of the names that `name` is, or is short for; none where it is not known."""
    return _forms().get(name, _NONE)


@cache
def known_given_names() -> frozenset[str]:
    """Every given name and short form in the tables."""
    return frozenset(_forms()) | frozenset(_OTHER_NAMES.split()) | frozenset(_OFTEN_NAMES.split())


@cache
def names_in_their_own_right() -> frozenset[str]:
    """Every name in the tables but those that are nothing but short forms."""
    heads = {row.split()[0] for row in _ROWS.split("|")}
    return frozenset(heads) | frozenset(_OTHER_NAMES.split()) | frozenset(_OFTEN_NAMES.split())


@cache
def _forms() -> dict[str, frozenset[int]]:
    found: dict[str, set[int]] = {}
    heads: dict[str, int] = {}
    for row in _ROWS.split("|"):
        # A name may head several rows, one a language: it is one name all the same.
        number = heads.setdefault(row.split()[0], len(heads))
        for form in row.split():
            found.setdefault(form, set()).add(number)
    return {form: frozenset(numbers) for form, numbers in found.items()}

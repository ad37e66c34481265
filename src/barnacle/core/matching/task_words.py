"""Mailboxes of a task or an office rather than of a person, by their local part: what organisations call them, language
by language (the English ones begin with those of RFC 2142), without accents, as local parts are written."""

from __future__ import annotations

_WORDS = """
abuse hostmaster marketing noc postmaster sales security support usenet uucp webmaster www account accountancy
accounts admin administration administrator admissions adverts alerts appointments archive assistance billing boatyard
booking bookings boxoffice bursar campaigns careers catering chair chairman chairperson chairwoman charity
chiefexecutive claims club comms communications community complaints contact contacts contactus council courses crew
customercare customerservice customerservices dataprotection delivery desk dispatch donations editor editorial editors
email enquiries enquiry estimates events exhibitions facilities feedback finance frontdesk fundraising general gdpr
grants harbouroffice hello help helpdesk headoffice hospitality hotline hr info information inquiries inquiry
insurance invoice invoices jobs kiosk legal lettings library logistics mail mailbox mailing mailroom maintenance
management media members membership memberships museum news newsletter no-reply noreply office operations order orders
parking partners payments payroll planning press principal privacy procurement publicity purchasing quotes reception
recruitment refunds registrar registration registry rentals repairs reservation reservations returns safety schedule
secretariat secretary service services shipping shop sponsorship staff studio submissions subscriptions subscribe team
techsupport tickets trade training treasurer treasury trustees unsubscribe vacancies volunteering volunteers warehouse
website welcome workshop

anfrage anfragen anmeldung auftrag auskunft bestellung bestellungen bewerbung bewerbungen buchhaltung buchung
buchungen buero datenschutz einkauf empfang geschaeftsfuehrung geschaeftsleitung geschaeftsstelle gemeinde hafenamt
hafenbuero hallo hausverwaltung jobs kanzlei karriere kasse kassenwart kassier kassierer kontakt kundendienst
kundenservice kundenbetreuung lager leitung mitglieder mitgliederverwaltung personal personalabteilung post postfach
poststelle praxis presse rechnung rechnungen rechnungswesen redaktion reservierung reservierungen rezeption
schriftfuehrer schulleitung sekretariat stadtverwaltung technik verein verkauf versand vertrieb verwaltung vorsitz
vorstand werkstatt zentrale

accueil achats adherents adhesion adhesions assistance association billetterie bonjour bureau capitainerie commande
commandes commercial commerciale compta comptabilite conseil courrier direction facturation factures formation gestion
inscription inscriptions juridique mairie paie presidence presse recrutement redaction rh secretaire secretariat
technique tresorerie tresorier ventes

acquisti amministrazione assistenza biglietteria clienti commerciale contabilita contatti contatto direzione fatture
fatturazione informazioni iscrizioni ordini personale portineria posta prenotazioni presidenza protocollo redazione
reclami risorseumane segretario segreteria soci stampa tesoreria tesoriere ufficio vendite

administracion asociacion atencion atencionalcliente ayuda ayuntamiento clientes comercial compras comunicacion
contabilidad contacto correo direccion empleo facturacion facturas formacion gerencia hola informacion informaciones
inscripciones oficina pedidos personal prensa presidencia recepcion reclamaciones recursoshumanos redaccion registro
reservas rrhh secretaria socios soporte taller tesoreria tesorero tienda ventas

administracao apoio associacao atendimento bilheteira clientes comunicacao contabilidade contato contatos direcao
encomendas escritorio faturacao faturas financeiro formacao geral gerencia imprensa informacoes inscricoes oficina
loja presidencia rececao recepcao recrutamento redacao reservas secretariado suporte tesouraria tesoureiro vendas

aanmelden aanmelding administratie bestellen bestelling bestellingen bestuur boekhouding communicatie directie
facturatie facturen facturering gemeente havenkantoor havenmeester inkoop inschrijving inschrijvingen kantoor
klantenservice klantendienst leden ledenadministratie magazijn onthaal penningmeester personeel personeelszaken pers
planning receptie redactie reserveren reserveringen secretariaat secretaris vacatures verkoop verzekering vereniging
voorzitter welkom werkplaats

bestilling bestillinger bestyrelse bestyrelsen billet billetter bogholderi faktura fakturaer formand forening
foreningen havnekontor havnekontoret hovedpostkasse indkoeb indkob kasserer kontakt kontor kontoret kundecenter
kundeservice kundesenter lager ledelse ledelsen medlem medlemmer medlemsservice ordre ordrer personale postmottak
firmapost regnskab regnskap resepsjon salg sekretaer sekretar sekretariat sekretariatet styre styreleder styret
verksted vaerksted

bokning bokningar bokforing butik ekonomi expedition fakturor foreningen hamnkontor inkop kansli kansliet kassor
kundservice kundtjanst ledning lon medlemmar ordforande order personal registrator reception sekreterare styrelse
styrelsen verkstad forsaljning valkommen

asiakaspalvelu hallinto hallitus henkilosto huolto jasenet jasenpalvelu kassa kirjaamo kirjanpito koulutus laskut
laskutus liput lehdisto myynti neuvonta palaute posti puheenjohtaja rahastonhoitaja satama sihteeri tiedotus tilaukset
toimisto varaukset vastaanotto verkkokauppa viestinta yhdistys yhteys

afgreidsla bokhald bokanir formadur gjaldkeri postur pantanir skrifstofa stjorn upplysingar

administracja biuro bilety dyrekcja dyrektor faktury finanse handlowy kadry kancelaria ksiegowosc magazyn obsluga
oferty poczta praca prasa prezes recepcja redakcja rekrutacja reklamacje rezerwacje rezerwacja serwis sekretarz
skarbnik sklep sprzedaz stowarzyszenie szkolenia urzad warsztat zamowienia zapytania zarzad zakupy

doprava dotazy fakturace fakturacia faktury hospodar informace informacie jednatel kancelar kancelaria knihovna mzdy
nakup obchod objednavka objednavky obec obecniurad personalni personalne podatelna pokladna posta predajna predaj
predseda prijem prodej prodejna recepce recepcia redakce reklamace reklamacie rezervace rezervacie riaditel reditel
sekretariat servis sklad skola spolek spravce spravca tajemnik uctarna uctaren ucetni uctovnictvo urad vedeni vedenie
vstupenky vybor zakaznik

blagajna clanstvo direkcija dobrodosli informacije kadrovska kancelarija kontakt nabava narocila narocilo narudzbe
nabavka obcina opcina pisarna podrska podpora porudzbine posta poslovodstvo predsednik predsednica predsjednik prijave
prijavnica prodaja racuni racunovodstvo recepcija reklamacije rezervacija rezervacije sekretarijat sluzba tajnica
tajnik tajnistvo trgovina udruga uprava uredi ured urednistvo ulaznice vodstvo

allas beszerzes berszamfejtes elnok elnokseg ertekesites foglalas gazdasagi hirlevel iroda iskola jegyek jegyzo
jelentkezes kapcsolat konyveles konyveloseg kikoto megrendeles megrendelesek munkaugy panasz penztar penzugy recepcio
rendeles rendelesek sajto szamla szamlazas szerviz szerkesztoseg szolgaltatas tagsag titkar titkarsag ugyfelszolgalat
uzlet vevoszolgalat vezetoseg

achizitii birou bilete casierie comenzi conducere contabilitate facturare facturi informatii juridic personal primaria
presa receptie redactia registratura relatii relatiiclienti rezervari resurseumane salarizare secretar secretara
vanzari

arved kantselei klienditeenindus kontor juhatus muuk raamatupidamine raamatupidaja sekretar tellimused tellimine
birojs gramatvediba kanceleja lietvediba pardosana pasts pasutijumi rezervacija administracija biuras buhalterija
klientai pardavimai pastas rastine rezervacijos sekretore skundai uzsakymai

bilgi bilet destek dernek fatura finans iletisim insankaynaklari kayit muhasebe mudurluk musterihizmetleri ofis
personel rezervasyon sekreter sekreterlik satis satinalma siparis teknik yonetim

grafeio grammateia kratiseis logistirio parapona paraggelies plirofories poliseis symvoulio tameio

buh buhgalter buhgalteria buhgalteriya bukhgalteria bukhgalteriya kadry kantselyariya kantseliaria ofis otdel pochta
poshta priemnaya pryimalnia pryimalnya prodazhi sklad sekretar zakaz zakazy zayavka zayavki zvyazok
"""

_TASKS = frozenset(_WORDS.split())
_SIGNS = str.maketrans("._-0123456789", " " * 13)


def is_task(local: str) -> bool:
    """Whether a local part in small letters is that of a task: `info`, `info2`, `customer-service`, `kancelar`."""
    if local in _TASKS:
        return True
    if local.isalpha():
        return False
    words = local.translate(_SIGNS).split()
    return bool(words) and ("".join(words) in _TASKS or all(word in _TASKS for word in words))

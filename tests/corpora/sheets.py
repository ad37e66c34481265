"""Made-up sheets as people send them, and how many come in exactly right: language by layout by mess.

    python tests/corpora/sheets.py [--sheets 336] [--seed 18] [--show 20]

Each sheet is put together with a seed from parts that know nothing of each other: a language (its titles, names, words
below a table), a layout (what stands where, who is whose) and messes (encoding, separators, gaps, capitals). What each
ought to come to is known from the parts. A sheet is right where everybody is there once, with the name, the addresses
and the numbers that are theirs, nobody else is, and no word of it is lost; a wrong one is silent where the reader has
no doubt to tell. The targets: 97 in 100 right, none wrong in silence.
"""

from __future__ import annotations

import argparse
import csv
import io
import random
import tempfile
from collections import Counter
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path

from barnacle.core.phones import phone_key
from barnacle.core.text import fold
from barnacle.files.drafts import Defect
from barnacle.files.opening import open_source
from barnacle.files.source import Options
from barnacle.files.tables.rows import Reading

SEED = 18


@dataclass
class Language:
    """Words of one language: titles by what they speak of, people's names, what stands around tables."""

    region: str
    codecs: tuple[str, ...]
    givens: list[str]
    families: list[str]
    titles: dict[str, list[str]]
    total: str
    printed: str
    both: str  # the name, family name first
    org: str  # what firms are called: `{} GmbH`


def _words(text: str) -> dict[str, list[str]]:
    return {
        key.strip(): value.strip().split("|")
        for key, _, value in (line.partition(":") for line in text.strip().splitlines())
    }


LANGUAGES = {
    "English": Language("GB", ("cp1252",), "Maren Bo Una Idris Oluchi Petra Owen Zoë Hugh Ada".split(), "Holt|Lund|Vane|Marsh|van der Berg|O'Shea|Fairweather|Keel".split("|"), _words("""
        name: Name|Full name|Your name|Member|Who
        given: First name|Given name|Forename
        family: Surname|Last name|Family name
        email: E-mail|Email address|Your e-mail address|E-mail Address
        phone: Phone|Telephone|Phone number|Tel.
        mobile: Mobile|Mobile phone|Cell
        work: E-mail (work)|Work e-mail|Office e-mail
        home: E-mail (private)|Home e-mail|Private e-mail
        org: Organisation|Company|Employer
        note: Notes|Remarks|Anything else?
        town: Town|City
        birthday: Date of birth|Birthday
        boat: Boat|Name of boat
        number: Membership no.|Member no.
        somebody: Emergency contact|Contact person|Referred by
        second: Co-owner|Partner
        mother: Mother
        father: Father
        child: Child|Pupil
        parent: Parent|Guardian
        private: private
        office: work"""), "Total", "Printed on", "Surname, first name", "{} Ltd"),
    "German": Language("DE", ("cp1252", "iso8859-15"), "Jörg Anke Björn Käthe Uwe Sönke Grete Hinnerk Ruth Timo".split(), "Müller|Groß|von der Heide|Schäfer|Petersen|Brüning|Weiß|Lührs".split("|"), _words("""
        name: Name|Vor- und Nachname|Ihr Name|Mitglied|Vollständiger Name
        given: Vorname|Rufname
        family: Nachname|Familienname|Name
        email: E-Mail|E-Mail-Adresse|Mailadresse|Email
        phone: Telefon|Telefonnummer|Tel.|Festnetz
        mobile: Handy|Mobilnummer|Mobil
        work: E-Mail (dienstlich)|E-Mail geschäftlich
        home: E-Mail (privat)|E-Mail privat
        org: Firma|Verein|Organisation
        note: Bemerkung|Bemerkungen|Anmerkungen
        town: Ort|Wohnort
        birthday: Geburtsdatum|Geb.-Datum
        boat: Boot|Bootsname
        number: Mitgliedsnummer|Mitgl.-Nr.
        somebody: Notfallkontakt|Ansprechpartner|Geworben von
        second: Miteigner|Partner
        mother: Mutter
        father: Vater
        child: Kind|Schüler
        parent: Elternteil|Erziehungsberechtigte
        private: privat
        office: dienstlich"""), "Summe", "Gedruckt am", "Name, Vorname", "{} GmbH"),
    "French": Language("FR", ("cp1252", "iso8859-15"), "Amélie Jérôme Hélène Luc Noémie Zoé Rémi Odile Benoît Maud".split(), "Dupré|Le Goff|Lefèvre|Girard|de la Tour|Bœuf|Morel|Fabre".split("|"), _words("""
        name: Nom complet|Nom et prénom complets|Votre nom|Adhérent
        given: Prénom|Prénoms
        family: Nom|Nom de famille
        email: Courriel|Adresse e-mail|E-mail|Adresse électronique
        phone: Téléphone|Tél.|N° de téléphone
        mobile: Portable|Tél. portable|Mobile
        work: E-mail professionnel|Courriel (travail)
        home: E-mail personnel|Courriel (privé)
        org: Société|Entreprise|Organisme
        note: Remarques|Commentaires|Observations
        town: Ville|Commune
        birthday: Date de naissance|Né(e) le
        boat: Bateau|Nom du bateau
        number: N° d'adhérent|Numéro de membre
        somebody: Personne à contacter|Contact d'urgence|Parrainé par
        second: Copropriétaire|Conjoint
        mother: Mère
        father: Père
        child: Enfant|Élève
        parent: Parent|Responsable légal
        private: personnel
        office: professionnel"""), "Total", "Imprimé le", "Nom et prénom", "{} SARL"),
    "Spanish": Language("ES", ("cp1252",), "Íñigo Lucía José Begoña Ángel Marta Óscar Inés Tomás Nuria".split(), "García|Muñoz|Ibáñez|López|Peña|Vidal|Ortega|Cañas".split("|"), _words("""
        name: Nombre y apellidos|Nombre completo|Su nombre|Socio
        given: Nombre|Nombre de pila
        family: Apellidos|Apellido
        email: Correo electrónico|Correo|E-mail|Dirección de correo
        phone: Teléfono|Tel.|Número de teléfono
        mobile: Móvil|Teléfono móvil
        work: Correo (trabajo)|Correo del trabajo
        home: Correo personal|Correo (particular)
        org: Empresa|Organización|Entidad
        note: Observaciones|Notas|Comentarios
        town: Ciudad|Población
        birthday: Fecha de nacimiento|Cumpleaños
        boat: Barco|Nombre del barco
        number: N.º de socio|Número de socio
        somebody: Persona de contacto|Contacto de emergencia|Recomendado por
        second: Copropietario|Cónyuge
        mother: Madre
        father: Padre
        child: Alumno|Hijo
        parent: Tutor legal|Progenitor
        private: personal
        office: trabajo"""), "Total", "Impreso el", "Apellidos, nombre", "{} SL"),
    "Italian": Language("IT", ("cp1252",), "Niccolò Giulia Nicolò Chiara Pietro Zoè Elena Ugo Rita Dario".split(), "Rossi|Perù|De Luca|Bianchi|Niccoli|Cantù|Ferri|Galli".split("|"), _words("""
        name: Nome e cognome|Nominativo|Il tuo nome|Socio
        given: Nome|Nome di battesimo
        family: Cognome
        email: Indirizzo e-mail|E-mail|Posta elettronica|Mail
        phone: Telefono|Tel.|Numero di telefono
        mobile: Cellulare|Tel. cellulare
        work: E-mail (lavoro)|E-mail ufficio
        home: E-mail personale|E-mail (casa)
        org: Azienda|Ditta|Ente
        note: Note|Osservazioni|Commenti
        town: Città|Comune
        birthday: Data di nascita|Compleanno
        boat: Barca|Nome della barca
        number: N. tessera|Numero tessera
        somebody: Persona di riferimento|Contatto di emergenza|Presentato da
        second: Comproprietario|Coniuge
        mother: Madre
        father: Padre
        child: Alunno|Bambino
        parent: Genitore|Tutore
        private: privata
        office: lavoro"""), "Totale", "Stampato il", "Cognome e nome", "{} SpA"),
    "Portuguese": Language("PT", ("cp1252",), "João Inês Gonçalo Conceição Rui Lídia Tomé Ana Nuno Raquel".split(), "Conceição|Simões|Brandão|Sá|Lopes|Araújo|Pires|Couto".split("|"), _words("""
        name: Nome completo|Nome|O seu nome|Sócio
        given: Nome próprio|Primeiro nome
        family: Apelido|Sobrenome
        email: Correio eletrónico|E-mail|Endereço de e-mail|Email
        phone: Telefone|Tel.|N.º de telefone
        mobile: Telemóvel|Celular
        work: E-mail (trabalho)|E-mail profissional
        home: E-mail pessoal|E-mail (casa)
        org: Empresa|Organização|Entidade
        note: Observações|Notas|Comentários
        town: Cidade|Localidade
        birthday: Data de nascimento|Aniversário
        boat: Barco|Nome do barco
        number: N.º de sócio|Número de sócio
        somebody: Pessoa de contacto|Contacto de emergência|Indicado por
        second: Coproprietário|Cônjuge
        mother: Mãe
        father: Pai
        child: Aluno|Criança
        parent: Encarregado de educação|Responsável legal
        private: pessoal
        office: trabalho"""), "Total", "Impresso em", "Apelido e nome", "{} Lda"),
    "Dutch": Language("NL", ("cp1252",), "Joost Daniëlle Loïs Pieter Noëlle Ruud Fenna Sjoerd Inge Kees".split(), "de Vries|van den Berg|Jansen|ter Horst|Bakker|Mulder|van Dijk|Smit".split("|"), _words("""
        name: Naam|Volledige naam|Uw naam|Lid
        given: Voornaam|Roepnaam
        family: Achternaam|Familienaam
        email: E-mailadres|E-mail|Emailadres|Mailadres
        phone: Telefoon|Telefoonnummer|Tel.nr.
        mobile: Mobiel|Mobiel nummer|GSM
        work: E-mail (werk)|E-mail zakelijk
        home: E-mail (privé)|E-mail thuis
        org: Bedrijf|Organisatie|Vereniging
        note: Opmerkingen|Bijzonderheden|Notities
        town: Woonplaats|Plaats
        birthday: Geboortedatum|Verjaardag
        boat: Boot|Naam van de boot
        number: Lidnummer|Lidnr.
        somebody: Contactpersoon|Noodcontact|Aangebracht door
        second: Mede-eigenaar|Partner
        mother: Moeder
        father: Vader
        child: Kind|Leerling
        parent: Ouder|Ouder/verzorger
        private: privé
        office: werk"""), "Totaal", "Afgedrukt op", "Achternaam, voornaam", "{} B.V."),
    "Danish": Language("DK", ("cp1252",), "Søren Kåre Åse Jørgen Bodil Mette Niels Dorthe Asger Bjørn".split(), "Sørensen|Ågård|Møller|Kjær|Holm|Østergaard|Bruun|Lind".split("|"), _words("""
        name: Navn|Fulde navn|Dit navn|Medlem
        given: Fornavn
        family: Efternavn
        email: E-mail|E-mailadresse|Mailadresse|E-post
        phone: Telefon|Telefonnummer|Tlf.
        mobile: Mobil|Mobilnummer
        work: E-mail (arbejde)|E-mail arbejde
        home: E-mail (privat)|Privat e-mail
        org: Firma|Virksomhed|Forening
        note: Bemærkninger|Noter|Kommentar
        town: By|Postnr. og by
        birthday: Fødselsdag|Fødselsdato
        boat: Båd|Bådens navn
        number: Medlemsnummer|Medlemsnr.
        somebody: Kontaktperson|Pårørende|Anbefalet af
        second: Medejer|Ægtefælle
        mother: Mor
        father: Far
        child: Barn|Elev
        parent: Forælder|Værge
        private: privat
        office: arbejde"""), "I alt", "Udskrevet", "Efternavn, fornavn", "{} ApS"),
    "Swedish": Language("SE", ("cp1252",), "Åsa Björn Märta Örjan Gösta Lena Nils Eva Håkan Siv".split(), "Öberg|Sjöström|Åkesson|Lindqvist|Ek|Hägg|Wallin|Berg".split("|"), _words("""
        name: Namn|Fullständigt namn|Ditt namn|Medlem
        given: Förnamn|Tilltalsnamn
        family: Efternamn
        email: E-post|E-postadress|Mejl|Mejladress
        phone: Telefon|Telefonnummer|Tel.
        mobile: Mobil|Mobilnummer
        work: E-post (arbete)|E-post jobb
        home: E-post (privat)|Privat e-post
        org: Företag|Organisation|Förening
        note: Anteckningar|Övrigt|Kommentar
        town: Ort|Postort
        birthday: Födelsedatum|Födelsedag
        boat: Båt|Båtens namn
        number: Medlemsnummer|Medlemsnr
        somebody: Kontaktperson|Närmast anhörig|Rekommenderad av
        second: Delägare|Make/maka
        mother: Mamma
        father: Pappa
        child: Barn|Elev
        parent: Förälder|Vårdnadshavare
        private: privat
        office: arbete"""), "Summa", "Utskriven", "Efternamn, förnamn", "{} AB"),
    "Norwegian": Language("NO", ("cp1252",), "Øyvind Åge Solveig Håkon Bjørg Tor Randi Eirik Liv Snorre".split(), "Ødegård|Bråten|Næss|Håland|Vik|Sørli|Moen|Dahl".split("|"), _words("""
        name: Navn|Fullt navn|Ditt navn|Medlem
        given: Fornavn
        family: Etternavn
        email: E-post|E-postadresse|Epost|Mailadresse
        phone: Telefon|Telefonnummer|Tlf.
        mobile: Mobil|Mobilnummer
        work: E-post (jobb)|E-post arbeid
        home: E-post (privat)|Privat e-post
        org: Firma|Bedrift|Organisasjon
        note: Merknader|Kommentar|Notater
        town: Sted|Poststed
        birthday: Fødselsdato|Fødselsdag
        boat: Båt|Båtens navn
        number: Medlemsnummer|Medlemsnr.
        somebody: Kontaktperson|Pårørende|Anbefalt av
        second: Medeier|Ektefelle
        mother: Mor
        father: Far
        child: Barn|Elev
        parent: Foresatt|Forelder
        private: privat
        office: jobb"""), "Totalt", "Skrevet ut", "Etternavn, fornavn", "{} AS"),
    "Polish": Language("PL", ("cp1250", "iso8859-2"), "Łukasz Małgorzata Wojciech Żaneta Zdzisław Agnieszka Paweł Bożena Jacek Róża".split(), "Wójcik|Dąbrowska|Żuraw|Śliwa|Kowalczyk|Łęcka|Zięba|Nowak".split("|"), _words("""
        name: Imię i nazwisko|Imię i nazwisko członka|Członek
        given: Imię|Imiona
        family: Nazwisko
        email: Adres e-mail|E-mail|Poczta elektroniczna|Email
        phone: Telefon|Nr telefonu|Tel.
        mobile: Komórka|Tel. komórkowy
        work: E-mail służbowy|E-mail (praca)
        home: E-mail prywatny|E-mail (prywatny)
        org: Firma|Organizacja|Instytucja
        note: Uwagi|Notatki|Komentarze
        town: Miejscowość|Miasto
        birthday: Data urodzenia|Urodziny
        boat: Łódź|Nazwa łodzi
        number: Nr członkowski|Numer członkowski
        somebody: Osoba kontaktowa|Kontakt awaryjny|Polecony przez
        second: Współwłaściciel|Małżonek
        mother: Matka
        father: Ojciec
        child: Dziecko|Uczeń
        parent: Rodzic|Opiekun prawny
        private: prywatny
        office: służbowy"""), "Razem", "Wydrukowano", "Nazwisko i imię", "{} Sp. z o.o."),
    "Finnish": Language("FI", ("cp1252", "iso8859-15"), "Väinö Päivi Jyrki Äänislinna Sirkka Timo Anneli Yrjö Eero Kaisa".split(), "Mäkelä|Hämäläinen|Lehtonen|Jääskeläinen|Korpi|Niemi|Yli-Kärppä|Salo".split("|"), _words("""
        name: Nimi|Koko nimi|Nimesi|Jäsen
        given: Etunimi|Kutsumanimi
        family: Sukunimi
        email: Sähköposti|Sähköpostiosoite|S-posti|E-mail
        phone: Puhelin|Puhelinnumero|Puh.
        mobile: Matkapuhelin|Kännykkä|GSM
        work: Sähköposti (työ)|Työsähköposti
        home: Sähköposti (koti)|Sähköposti (yksityinen)
        org: Yritys|Organisaatio|Yhdistys
        note: Huomautuksia|Lisätiedot|Kommentit
        town: Kaupunki|Paikkakunta
        birthday: Syntymäaika|Syntymäpäivä
        boat: Vene|Veneen nimi
        number: Jäsennumero|Jäsennro
        somebody: Yhteyshenkilö|Lähiomainen|Suosittelija
        second: Osaomistaja|Puoliso
        mother: Äiti
        father: Isä
        child: Lapsi|Oppilas
        parent: Huoltaja|Vanhempi
        private: yksityinen
        office: työ"""), "Yhteensä", "Tulostettu", "Sukunimi ja etunimi", "{} Oy"),
}  # fmt: skip
# Titles that a text cannot begin so, since the language has no such words for it.
_NUMBERS = {
    "GB": "01632 960{:03}|07700 900{:03}|+44 1632 960{:03}", "DE": "0441 2233{:03}|0441/22{:03}|0160 99887{:03}|+49 441 2233{:03}",
    "FR": "01 99 00 5{0:03}|06 39 98 0{0:03}|+33 1 99 00 5{0:03}", "ES": "910 112 {:03}|655 112 {:03}|+34 910 112 {:03}",
    "IT": "06 5550 {:03}|347 555 0{:03}|+39 06 5550 {:03}", "PT": "21 355 0{:03}|912 555 {:03}|+351 21 355 0{:03}",
    "NL": "020 555 0{:03}|06 1155 0{:03}|+31 20 555 0{:03}", "DK": "32 10 0{:03}|+45 32 10 0{:03}", "SE": "08-465 00 {:03}|070-174 0{:03}|+46 8 465 0{:03}",
    "NO": "22 99 0{:03}|+47 22 99 0{:03}", "PL": "22 555 0{:03}|601 555 {:03}|+48 22 555 0{:03}", "FI": "09 5550 {:03}|040 555 0{:03}|+358 9 5550 {:03}",
}  # fmt: skip
_TOWNS = ("Tidewick", "Ebbhaven", "Skerry", "Kelpness", "Gullport", "Saltmarsh")
_BOATS = ("Dunlin", "Grey Seal", "Petrel", "Sea Pink", "Teal", "Little Auk")


@dataclass
class Somebody:
    """Who ought to come in."""

    name: str
    addresses: list[str] = field(default_factory=list)
    phones: list[str] = field(default_factory=list)


@dataclass
class Sheet:
    """A made-up sheet: its cells, what is hidden, who ought to come in, the texts that must not be lost, and what it is."""

    cells: list[list[str]]
    people: list[Somebody]
    kept: list[str] = field(default_factory=list)
    about: str = ""
    region: str = ""
    codec: str = "utf-8"
    others: list[tuple[str, list[list[str]]]] = field(default_factory=list)  # sheets beside it
    hidden_rows: set[int] = field(default_factory=set)
    hidden_columns: set[int] = field(default_factory=set)
    merged: list[tuple[int, int, int, int]] = field(default_factory=list)
    numbers: bool = False
    workbook: bool | None = None


class Maker:
    """Makes the parts of one sheet in one language."""

    def __init__(self, pick: random.Random, language: Language) -> None:
        self.pick = pick
        self.language = language
        self.number = pick.randrange(100)
        self.chosen: dict[str, str] = {}
        self.used: set[str] = set()

    def title(self, what: str) -> str:
        """A title, the same throughout one sheet."""
        if what not in self.chosen:
            self.chosen[what] = self.pick.choice(self.language.titles[what])
        return self.chosen[what]

    def who(self) -> tuple[str, str]:
        """Given and family name of somebody new."""
        while True:
            both = self.pick.choice(self.language.givens), self.pick.choice(self.language.families)
            if " ".join(both) not in self.used:
                self.used.add(" ".join(both))
                return both

    def address(self, given: str, family: str, at: str = "") -> str:
        """An address of theirs."""
        self.number += 1
        local = "".join(c for c in fold(f"{given}.{family}") if c.isalnum() or c == ".")
        return f"{local}{self.number}@{at or self.pick.choice(('kelp', 'gull', 'skerry'))}.example"

    def phone(self) -> str:
        """A number as it is written there."""
        self.number += 1
        return self.pick.choice(_NUMBERS[self.language.region].split("|")).format(self.number % 1000)

    def day(self) -> str:
        """A day."""
        return f"{self.pick.randrange(1, 28):02}.{self.pick.randrange(1, 13):02}.{self.pick.randrange(1950, 2010)}"

    def some(self) -> range:
        """How many rows."""
        return range(self.pick.randrange(4, 12))


Layout = Callable[[Maker], Sheet]


def plain(m: Maker) -> Sheet:
    people, rows = [], []
    for _ in m.some():
        given, family = m.who()
        one = Somebody(f"{given} {family}", [m.address(given, family)], [m.phone()])
        people.append(one)
        rows.append([one.name, one.addresses[0], one.phones[0]])
    order = m.pick.sample(range(3), 3)
    head = [m.title("name"), m.title("email"), m.title("phone")]
    return Sheet([[row[n] for n in order] for row in [head, *rows]], people)


def parts(m: Maker, more: bool = False) -> Sheet:
    people, rows, kept = [], [], []
    for _ in m.some():
        given, family = m.who()
        one = Somebody(f"{given} {family}", [m.address(given, family)], [m.phone()])
        people.append(one)
        rest = [m.pick.choice(_TOWNS), m.day(), m.pick.choice(_BOATS)] if more else []
        kept += rest
        rows.append([family, given, *rest, one.addresses[0], one.phones[0]])
    extra = [m.title("town"), m.title("birthday"), m.title("boat")] if more else []
    head = [m.title("family"), m.title("given"), *extra, m.title("email"), m.title("mobile")]
    return Sheet([head, *rows], people, kept)


def with_more(m: Maker) -> Sheet:
    return parts(m, more=True)


def titled(m: Maker) -> Sheet:
    sheet = with_more(m)
    width = len(sheet.cells[0])
    sheet.cells[:0] = [["Tidewick Harbour Trust", *[""] * (width - 1)], ["2026", *[""] * (width - 1)], [""] * width]
    return sheet


def numbered(m: Maker) -> Sheet:
    people, rows = [], []
    for _ in m.some():
        given, family = m.who()
        two = m.pick.random() < 0.6
        one = Somebody(
            f"{given} {family}", [m.address(given, family) for _ in range(1 + two)], [m.phone() for _ in range(1 + two)]
        )
        people.append(one)
        rows.append([one.name, *[*one.addresses, ""][:2], *[*one.phones, ""][:2]])
    email, phone = m.title("email"), m.title("phone")
    return Sheet([[m.title("name"), f"{email} 1", f"{email} 2", f"{phone} 1", f"{phone} 2"], *rows], people)


def of_kinds(m: Maker) -> Sheet:
    people, rows = [], []
    for _ in m.some():
        given, family = m.who()
        one = Somebody(
            f"{given} {family}", [m.address(given, family), m.address(given, family)], [m.phone(), m.phone()]
        )
        people.append(one)
        rows.append([one.name, *one.addresses, *one.phones])
    return Sheet(
        [[m.title("name"), m.title("work"), m.title("home"), m.title("phone"), m.title("mobile")], *rows], people
    )


def kinds_below(m: Maker) -> Sheet:
    sheet = of_kinds(m)
    head = [
        [m.title("name"), m.title("email"), "", m.title("phone"), m.title("mobile")],
        ["", m.title("office"), m.title("private"), "", ""],
    ]
    sheet.cells[:1] = head
    sheet.merged = [(1, 2, 1, 3)]
    return sheet


def owners(m: Maker) -> Sheet:
    people, rows, kept = [], [], []
    for _ in m.some():
        given, family = m.who()
        one = Somebody(f"{given} {family}", [m.address(given, family)], [m.phone()])
        people.append(one)
        boat = m.pick.choice(_BOATS)
        kept.append(boat)
        row = [one.name, one.addresses[0], one.phones[0], "", "", boat]
        if m.pick.random() < 0.6:
            given, family = m.who()
            other = Somebody(f"{given} {family}", [m.address(given, family)])
            people.append(other)
            row[3:5] = [other.name, other.addresses[0]]
        rows.append(row)
    second = m.title("second")
    return Sheet(
        [
            [
                m.title("name"),
                m.title("email"),
                m.title("phone"),
                second,
                f"{second} {m.title('email')}",
                m.title("boat"),
            ],
            *rows,
        ],
        people,
        kept,
    )


def _family(m: Maker) -> tuple[list[list[str]], list[Somebody]]:
    people, rows = [], []
    for _ in m.some():
        _, family = m.who()
        names = [f"{given} {family}" for given in m.pick.sample(m.language.givens, 3)]
        grown = [Somebody(name, [m.address(name.split()[0], family)], [m.phone()]) for name in names[1:]]
        people += [Somebody(names[0]), *grown]
        rows.append([names[0], *(value for one in grown for value in (one.name, one.addresses[0], one.phones[0]))])
    return rows, people


def merged_parents(m: Maker) -> Sheet:
    rows, people = _family(m)
    three = [m.title("name"), m.title("email"), m.title("phone")]
    head = [[m.title("child"), m.title("mother"), "", "", m.title("father"), "", ""], [m.title("name"), *three, *three]]
    return Sheet([*head, *rows], people, merged=[(1, 2, 1, 4), (1, 5, 1, 7)])


def parents(m: Maker) -> Sheet:
    rows, people = _family(m)
    head = [m.title("child")]
    for who in (m.title("mother"), m.title("father")):
        head += [who, f"{who} {m.title('email')}", f"{who} {m.title('phone')}"]
    return Sheet([head, *rows], people)


def numbered_parents(m: Maker) -> Sheet:
    rows, people = _family(m)
    head = [m.title("child")]
    for who in (f"{m.title('parent')} 1", f"{m.title('parent')} 2"):
        head += [who, f"{who} {m.title('email')}", f"{who} {m.title('phone')}"]
    return Sheet([head, *rows], people)


def beside(m: Maker) -> Sheet:
    one, other = plain(m), with_more(m)
    height = max(len(one.cells), len(other.cells))
    widths = len(one.cells[0]), len(other.cells[0])
    for sheet, width in ((one, widths[0]), (other, widths[1])):
        sheet.cells += [[""] * width for _ in range(height - len(sheet.cells))]
    return Sheet(
        [[*a, "", *b] for a, b in zip(one.cells, other.cells, strict=True)], one.people + other.people, other.kept
    )


def below(m: Maker) -> Sheet:
    one, other = with_more(m), plain(m)
    width = len(one.cells[0])
    section = ["Crew", *[""] * (width - 1)]
    other_cells = [row + [""] * (width - len(row)) for row in other.cells]
    cells = [section, *one.cells, [""] * width, ["Board", *[""] * (width - 1)], *other_cells]
    return Sheet(cells, one.people + other.people, one.kept)


def sections(m: Maker) -> Sheet:
    sheet = with_more(m)
    width = len(sheet.cells[0])
    half = len(sheet.cells) // 2
    blank = [""] * width
    sheet.cells[half:half] = [blank, ["Pontoon B", *[""] * (width - 1)]]
    sheet.cells.insert(1, ["Pontoon A", *[""] * (width - 1)])
    return sheet


def with_totals(m: Maker) -> Sheet:
    sheet = with_more(m)
    width = len(sheet.cells[0])
    total = m.language.total
    sheet.cells += [
        [f"{total}:", str(len(sheet.people)), *[""] * (width - 2)],
        [""] * width,
        [f"{m.language.printed} 1.11.2026", *[""] * (width - 1)],
    ]
    return sheet


def again(m: Maker) -> Sheet:
    sheet = with_more(m)
    sheet.cells.insert(len(sheet.cells) // 2 + 1, list(sheet.cells[0]))
    return sheet


def hidden(m: Maker) -> Sheet:
    sheet = parts(m)
    out = m.pick.randrange(len(sheet.people))
    sheet.people.pop(out)
    sheet.hidden_rows = {out + 2}
    for row, value in zip(sheet.cells, ["x", *(f"secret {n}" for n in range(99))], strict=False):
        row.append(value)
    sheet.hidden_columns = {len(sheet.cells[0])}
    sheet.others = [("Old", plain(m).cells)]
    sheet.workbook = True
    return sheet


def no_header(m: Maker) -> Sheet:
    sheet = plain(m)
    sheet.cells.pop(0)
    return sheet


def strangers(m: Maker) -> Sheet:
    sheet = plain(m)
    name = m.title("somebody")
    sheet.cells[0] += [name, f"{name} {m.title('email')}", f"{name} {m.title('phone')}"]
    for row in sheet.cells[1:]:
        given, family = m.who()
        row += [f"{given} {family}", m.address(given, family), m.phone()]
        sheet.kept += row[3:]
    return sheet


def firms(m: Maker) -> Sheet:
    people, rows = [], []
    for _ in m.some():
        given, family = m.who()
        one = Somebody(f"{given} {family}", [m.address(given, family)], [m.phone()])
        people.append(one)
        rows.append(
            [m.language.org.format(m.pick.choice(m.language.families)), given, family, one.addresses[0], one.phones[0]]
        )
    return Sheet(
        [[m.title("org"), m.title("given"), m.title("family"), m.title("email"), m.title("phone")], *rows],
        people,
        [row[0] for row in rows],
    )


def free_text(m: Maker) -> Sheet:
    sheet = plain(m)
    sheet.cells[0].append(m.title("note"))
    for row in sheet.cells[1:]:
        given, family = m.who()
        row.append(m.pick.choice((f"{m.address(given, family)} ?", f"cc {m.address(given, family)}, 2026", "")))
        sheet.kept.append(row[3])
    return sheet


def turned_names(m: Maker) -> Sheet:
    sheet = parts(m)
    sheet.cells = [[f"{row[0]}, {row[1]}", *row[2:]] for row in sheet.cells]
    sheet.cells[0][0] = m.pick.choice((m.language.both, m.title("name")))
    return sheet


def capitals(m: Maker) -> Sheet:
    sheet = parts(m)
    sheet.cells[1:] = [[f"{row[0].upper()} {row[1]}", *row[2:]] for row in sheet.cells[1:]]
    sheet.cells[0] = [m.title("name"), *sheet.cells[0][2:]]
    return sheet


def lost_zeros(m: Maker) -> Sheet:
    sheet = plain(m)
    sheet.numbers = sheet.workbook = True
    return sheet


def mailboxes(m: Maker) -> Sheet:
    sheet = plain(m)
    place = sheet.cells[0].index(m.title("email"))
    for row, one in zip(sheet.cells[1:], sheet.people, strict=True):
        more = m.address(*m.who()) if m.pick.random() < 0.4 else ""
        row[place] = f"{one.addresses[0]}{m.pick.choice((', ', '; ', ' / ')) + more if more else ''}"
        one.addresses += [more] if more else []
    return sheet


def households(m: Maker) -> Sheet:
    sheet = plain(m)
    place = sheet.cells[0].index(m.title("name"))
    for row, one in list(zip(sheet.cells[1:], sheet.people, strict=True))[:2]:
        given, *family = one.name.split()
        other = next(g for g in m.language.givens if g != given)
        row[place] = f"{given} & {other} {' '.join(family)}"
        sheet.people.append(Somebody(f"{other} {' '.join(family)}", list(one.addresses), list(one.phones)))
    return sheet


def degrees(m: Maker) -> Sheet:
    sheet = plain(m)
    place = sheet.cells[0].index(m.title("name"))
    for row, one in list(zip(sheet.cells[1:], sheet.people, strict=True))[::2]:
        row[place] = one.name = f"{one.name}, {m.pick.choice(('PhD', 'MBE', 'MSc'))}"
    return sheet


def with_numbers(m: Maker) -> Sheet:
    sheet = parts(m)
    sheet.cells[0].insert(0, m.title("number"))
    for n, row in enumerate(sheet.cells[1:], m.pick.randrange(10_000, 90_000)):
        row.insert(0, str(n))
        sheet.kept.append(str(n))
    return sheet


LAYOUTS: dict[str, Layout] = {one.__name__: one for one in (
    plain, parts, with_more, titled, numbered, of_kinds, kinds_below, owners, merged_parents, parents, numbered_parents, beside, below, sections,
    with_totals, again, hidden, no_header, strangers, firms, free_text, turned_names, capitals, lost_zeros, mailboxes, households, degrees, with_numbers,
)}  # fmt: skip


def indent(pick: random.Random, sheet: Sheet) -> None:
    """The table begins further right and below."""
    sheet.cells = [[""] * (len(sheet.cells[0]) + 1), *([["", *row] for row in sheet.cells])]
    sheet.hidden_rows = {n + 1 for n in sheet.hidden_rows}
    sheet.hidden_columns = {n + 1 for n in sheet.hidden_columns}
    sheet.merged = [(a + 1, b + 1, c + 1, d + 1) for a, b, c, d in sheet.merged]


def broken_titles(pick: random.Random, sheet: Sheet) -> None:
    """Line breaks and stars in the header."""
    sheet.cells[0] = [
        cell.replace(" ", "\n", 1) + pick.choice(("", " *", ":")) if cell else "" for cell in sheet.cells[0]
    ]


def spaces(pick: random.Random, sheet: Sheet) -> None:
    """Spaces around what was typed, and hard ones in it."""
    sheet.cells = [[f" {cell} " if cell and pick.random() < 0.3 else cell for cell in row] for row in sheet.cells]


def gaps(pick: random.Random, sheet: Sheet) -> None:
    """Empty rows among the others."""
    if not sheet.hidden_rows and not sheet.merged:
        for place in sorted(pick.sample(range(2, len(sheet.cells)), min(2, len(sheet.cells) - 2)), reverse=True):
            sheet.cells.insert(place, [""] * len(sheet.cells[0]))


MESSES = (indent, broken_titles, spaces, gaps)


def make(seed: int, number: int) -> Sheet:
    """One sheet of the corpus, by its number."""
    pick = random.Random(f"{seed}/{number}")
    names = list(LANGUAGES)
    language = names[number % len(names)]
    layout = list(LAYOUTS)[number // len(names) % len(LAYOUTS)]
    maker = Maker(pick, LANGUAGES[language])
    sheet = LAYOUTS[layout](maker)
    sheet.region = LANGUAGES[language].region
    messes = [
        mess
        for mess in MESSES
        if pick.random() < 0.25 and not (mess is broken_titles and layout in ("no_header", "titled", "below"))
    ]
    for mess in messes:
        mess(pick, sheet)
    sheet.codec = pick.choice(("utf-8", "utf-8-sig", "utf-16", *LANGUAGES[language].codecs * 2))
    sheet.about = f"{number} {language} {layout} {' '.join(mess.__name__ for mess in messes)}"
    if sheet.workbook is None:
        sheet.workbook = pick.random() < 0.4
    return sheet


def write(sheet: Sheet, folder: Path, pick: random.Random) -> Path:
    """The sheet as a file."""
    if sheet.workbook:
        return _write_workbook(sheet, folder / "sheet.xlsx")
    out = io.StringIO(newline="")
    csv.writer(out, delimiter=pick.choice(",;\t")).writerows(sheet.cells)
    path = folder / "sheet.csv"
    path.write_bytes(out.getvalue().encode(sheet.codec, "replace"))
    return path


def _write_workbook(sheet: Sheet, path: Path) -> Path:
    import openpyxl
    from openpyxl.utils import get_column_letter

    book = openpyxl.Workbook()
    page = book.active
    page.title = "List"
    for row in sheet.cells:
        page.append(
            [
                _number(cell)
                if sheet.numbers and sum(c.isdigit() for c in cell) > 7 and "@" not in cell
                else cell or None
                for cell in row
            ]
        )
    for row in sheet.hidden_rows:
        page.row_dimensions[row].hidden = True
    for column in sheet.hidden_columns:
        page.column_dimensions[get_column_letter(column)].hidden = True
    for top, left, bottom, right in sheet.merged:
        page.merge_cells(start_row=top, start_column=left, end_row=bottom, end_column=right)
    for title, cells in sheet.others:
        other = book.create_sheet(title)
        for row in cells:
            other.append(row)
        other.sheet_state = "hidden"
    book.save(path)
    return path


def _number(text: str) -> int | str:
    bare = "".join(c for c in text if c.isdigit())
    return int(bare) if bare else text


@dataclass
class Verdict:
    """How a sheet came in: what is wrong with it, and what was said."""

    wrong: list[str]
    said: list[str]


def judge(sheet: Sheet, path: Path) -> Verdict:
    """Read a sheet as an import does, and hold what comes of it against what ought to."""
    said: list[str] = []
    found = []
    try:
        source = open_source(path, Options(how=Reading(region=sheet.region)))
        for one in source.sheets:
            said += [doubt.sentence for doubt in one.columns.doubts]
        told: list[Defect] = []
        for table in source.tables():
            for item in table.items(None):
                draft = table.read(item)  # type: ignore[arg-type]
                found += draft.people
                told += [*draft.doubtful, *draft.refused, *draft.left_out]
        said += [f"{defect.row}: {defect.value}: {defect.reason}" for defect in told]
    except Exception as error:  # what a user would be told
        return Verdict([f"{type(error).__name__}: {error}"], [str(error)])
    wrong = []
    key = lambda name, addresses, phones: (  # noqa: E731
        fold(name), tuple(sorted(addresses)), tuple(sorted({phone_key(p, sheet.region) for p in phones})),
    )  # fmt: skip
    want = Counter(key(p.name, p.addresses, p.phones) for p in sheet.people)
    have = Counter(
        key(c.title if not c.name else c.name, [a.address for a in c.addresses], [p.number for p in c.phones])
        for c in found
    )
    wrong += [f"missing {one}" for one in want - have]
    wrong += [f"not asked for {one}" for one in have - want]
    texts = fold(
        " | ".join(f"{c.org} {c.note} {c.job} {' '.join(e.value for e in c.extra)} {' '.join(c.labels)}" for c in found)
    )
    wrong += [f"lost {text}" for text in dict.fromkeys(sheet.kept) if fold(text) not in texts]
    if any("secret" in e.value for c in found for e in c.extra):
        wrong.append("took a hidden column")
    return Verdict(wrong, said)


def run(makes: Iterable[tuple[str, Sheet]], show: int, seed: int) -> tuple[int, int, int]:
    """Judge sheets and print what went wrong; how many there are, how many are right, how many wrong in silence."""
    right = silent = number = 0
    by: Counter[str] = Counter()
    for about, sheet in makes:
        number += 1
        with tempfile.TemporaryDirectory() as folder:
            verdict = judge(sheet, write(sheet, Path(folder), random.Random(f"{seed}/{about}")))
        if not verdict.wrong:
            right += 1
            continue
        silent += not verdict.said
        by[about.split()[2] if len(about.split()) > 2 else about] += 1
        if show > 0:
            show -= 1
            print(f"{'SILENT ' if not verdict.said else ''}{about} ({'xlsx' if sheet.workbook else sheet.codec})")
            print(*(f"    {cells}" for cells in sheet.cells[:4]), sep="\n")
            print(
                *(f"  {text}" for text in verdict.wrong[:3]),
                *(f"  said: {text}" for text in verdict.said[:3]),
                sep="\n",
            )
    print(
        f"{number} sheets: {right} right ({right / number:.1%}), {number - right} wrong, {silent} of them in silence; {dict(by)}"
    )
    return number, right, silent


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sheets", type=int, default=len(LANGUAGES) * len(LAYOUTS))
    parser.add_argument("--seed", type=int, default=SEED)
    parser.add_argument("--show", type=int, default=20)
    args = parser.parse_args()
    run(((s.about, s) for n in range(args.sheets) if (s := make(args.seed, n))), args.show, args.seed)


if __name__ == "__main__":
    main()

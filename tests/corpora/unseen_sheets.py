"""A third corpus of made-up sheets, and a fourth, each written after the reader was mended by those before it: a template
a sheet, with its header, its rows and what stands around them as somebody typed it.

    python tests/corpora/unseen_sheets.py [--seed 7] [--rounds 4] [--show 0]

In a template a line that begins with `>` is a row, made six to twelve times; `<` is one that comes once in the middle.
`{g1}` is the given name of the row's first person, `{f1}` the family's, `{e1}` an address, `{E1}` a second one, `{p1}` and
`{q1}` numbers, `{x}` a word that must not be lost, `{s}` a stranger's name, `{t}` a stranger's address. After `=` stand the
people who ought to come in, each as the marks that are theirs. Targets: 93 in 100 right, none wrong in silence.
"""

from __future__ import annotations

import argparse
import random
import re
from collections.abc import Iterator

from sheets import LANGUAGES, Maker, Sheet, Somebody, run

TEMPLATES = """
English = g1 f1 e1 p1
Harbour choir, autumn term;;;;
First name;Last name;Voice;E-Mail;Tel
>{g1};{f1};{x};{e1};{p1}
Choirmaster: see notice board;;;;

English = g1 f1 e1 E1 p1
Contact list of berth holders
Holder;Boat's name;Email (1);Email (2);Daytime phone
>{g1} {f1};{x};{e1};{E1};{p1}

English = g1 f1 e1 | g2 f2 e2
Pupil forename;Pupil surname;Pupil email;Guardian forename;Guardian surname;Guardian email
>{g1};{f1};{e1};{g2};{f2};{e2}

English = g1 f1 p1 q1 e1
NAME;HOME TEL;MOBILE TEL;E-MAIL;NOTES
>{f1}, {g1};{p1};{q1};{e1};ask {t} first
;;;;
TOTAL MEMBERS;;;;

German = g1 f1 e1 p1
Teilnehmerliste Segelkurs 2026;;;;
Teilnehmer/in;;Kontakt;;Bemerkung
Vorname;Nachname;E-Mail;Telefon;
>{g1};{f1};{e1};{p1};{x}

German = g1 f1 e1 p1
Pos.;Name;Vorname;geb. am;Rufnummer (mobil);Mail-Adresse;Eintritt
>1;{f1};{g1};12.03.1961;{p1};{e1};01.04.2001

German = g1 f1 e1 p1
Ansprechpartner im Notfall;Mitglied;E-Mail Mitglied;Tel. Mitglied;Tel. Ansprechpartner
>{s};{g1} {f1};{e1};{p1};0441 999999

German = g1 f1 e1 | g2 f2 e2
Stand: 1.11.2026;;;
Eigentümer;Mail Eigentümer;Ehepartner;Mail Ehepartner
>{g1} {f1};{e1};{g2} {f2};{e2}
Gesamt;12;;

French = g1 f1 e1 p1
Liste des adhérents au 1er novembre;;;;
N°;NOM;Prénom;Adresse mail;Tél. mobile
>7;{f1};{g1};{e1};{p1}

French = g1 f1 e1 p1
Nom - Prénom;Commune;Téléphone domicile;E-mail personnel
>{f1} {g1};{x};{p1};{e1}

French = g1 f1 | g2 f2 e2 p2
Prénom de l'enfant;Nom de l'enfant;Prénom du responsable;Nom du responsable légal;Mail du responsable légal;Portable du responsable légal
>{g1};{f1};{g2};{f2};{e2};{p2}

Spanish = g1 f1 e1 p1
Listado de socios;;;;
Nº;Nombre;Apellidos;Correo-e;Tfno.
>4;{g1};{f1};{e1};{p1}
;;;;
Actualizado el 3/11/2026;;;;

Spanish = g1 f1 e1 E1
Participante;Email personal;Email del trabajo;Talla de camiseta
>{g1} {f1};{e1};{E1};{x}

Italian = g1 f1 e1 p1
ELENCO SOCI;;;;
Cognome;Nome;Recapito telefonico;Indirizzo di posta elettronica;Quota versata
>{f1};{g1};{p1};{e1};sì

Italian = g1 f1 e1 | g2 f2 e2
Bambino;Classe;Mamma;Mail mamma
>{g1} {f1};{x};{g2} {f2};{e2}

Portuguese = g1 f1 e1 p1
Nome;Apelido;Contacto telefónico;E-mail;Freguesia
>{g1};{f1};{p1};{e1};{x}

Dutch = g1 f1 e1 p1
Ledenlijst;;;;
Voornaam;Achternaam;Straat;Mobiele telefoon;E-mailadres
>{g1};{f1};{x};{p1};{e1}
<{g1};;;;

Dutch = g1 f1 e1 p1
Naam lid;Mailadres;Telefoonnr.;Noodcontact (naam);Noodcontact (telefoon)
>{g1} {f1};{e1};{p1};{s};06 99887766

Danish = g1 f1 e1 p1
Medlemsliste;;;
Fornavn og efternavn;Tlf.nr.;Mailadresse;Bådnavn
>{g1} {f1};{p1};{e1};{x}

Danish = g1 f1 e1 | g2 f2 e2
Ejer;Ejers mail;Samlever;Samlevers mail
>{g1} {f1};{e1};{g2} {f2};{e2}

Swedish = g1 f1 e1 p1
Namn;Gatuadress;Telefon hem;E-postadress
>{g1} {f1};{x};{p1};{e1}

Swedish = g1 f1 | g2 f2 e2 p2
Elev;Klass;Vårdnadshavare;Vårdnadshavares e-post;Vårdnadshavares mobil
>{g1} {f1};{x};{g2} {f2};{e2};{p2}

Norwegian = g1 f1 e1 p1
Deltakerliste;;;
Etternavn;Fornavn;Mobilnummer;E-postadresse
>{f1};{g1};{p1};{e1}
Skrevet ut 3.11.2026;;;

Polish = g1 f1 e1 p1
Lp.;Nazwisko i imię;Numer telefonu;Adres e-mail;Funkcja
>3;{f1} {g1};{p1};{e1};{x}

Polish = g1 f1 e1 p1
Imię;Nazwisko;Tel. domowy;Mail;Uwagi
>{g1};{f1};{p1};{e1};{x}
Razem: 8;;;;

Finnish = g1 f1 e1 p1
Jäsenluettelo;;;
Etunimi;Sukunimi;Sähköpostiosoite;Puh.
>{g1};{f1};{e1};{p1}

Finnish = g1 f1 e1 | g2 f2 e2
Oppilas;Oppilaan sähköposti;Huoltaja;Huoltajan sähköposti
>{g1} {f1};{e1};{g2} {f2};{e2}

English = g1 f1 e1 p1
Fleet A;;;;Fleet B;;
Name;E-mail;Phone;;Name;E-mail;Phone
>{g1} {f1};{e1};{p1};;;;

English = g1 f1 e1 p1
Referred by;Customer;Customer e-mail;Customer phone;Invoice to
>{s};{g1} {f1};{e1};{p1};{t}

German = g1 f1 e1 p1
Verein;Vorsitzende/r;E-Mail;Telefon
>{x};{g1} {f1};{e1};{p1}
"""

# Written after the reader was mended by those, and held against it once: 92 of 96 right at first sight.
LATER = """
English = g1 f1 e1 p1
Exported from the booking desk on 3 November;;;;;
Booking ref;Lead guest;Guests' email;Contact no.;Nights;Allergies
>{x};{g1} {f1};{e1};{p1};3;none

English = g1 f1 e1
Rank;Initials;Surname;Forename;Service email
>2;X;{f1};{g1};{e1}

English = g1 f1 e1 p1 | g2 f2 e2 p2
Skipper name;Skipper email;Skipper mobile;Crew name;Spouse;Spouse email;Spouse mobile
>{g1} {f1};{e1};{p1};{x};{g2} {f2};{e2};{p2}

English = g1 f1 e1 p1
Staff directory;;;;
;;;;
Dept;Extension;Employee;Work e-mail;Direct line
>{x};4711;{g1} {f1};{e1};{p1}

English = g1 f1 e1
Who's coming?;E-mail to confirm;Bringing a dish?;How did you hear of us?
>{g1} {f1};{e1};yes;{x}

German = g1 f1 e1 p1
Adressliste Kantorei;;;;;
lfd. Nr.;Familienname, Rufname;Stimmlage;Anschluss;Elektropost;Bem.
>1;{f1}, {g1};{x};{p1};{e1};

German = g1 f1 e1 p1
Kunde;Kundennr.;Mailadresse;Rückrufnummer;Vermittler
>{g1} {f1};47110;{e1};{p1};{s}

German = g1 f1 | g2 f2 e2 p2 | g3 f3
Schülername;Kl.;Mutter (Name);Mutter (Mail);Mutter (Tel.);Vater (Name)
>{g1} {f1};7b;{g2} {f2};{e2};{p2};{g3} {f3}

French = g1 f1 e1 p1
Participant(e);Âge;Mail;Téléphone;Personne à joindre en cas d'urgence
>{g1} {f1};42;{e1};{p1};{s}

French = g1 f1 e1 p1
Association nautique;;;;
Civilité;Nom;Prénom;Adresse de messagerie;Mobile
>Mme;{f1};{g1};{e1};{p1}
Nombre d'inscrits : 12;;;;

French = g1 f1 e1
Horodateur;Adresse e-mail;Nom et prénom du bénévole;Disponibilités
>03/11/2026 10:22;{e1};{g1} {f1};{x}

Spanish = g1 f1 e1 p1
Fecha;Nombre y apellidos del socio;Tel. móvil;Correo
>03/11/2026;{g1} {f1};{p1};{e1}

Spanish = g1 f1 | g2 f2 e2 p2
Alumno/a;Padre, madre o tutor;Correo del tutor;Móvil del tutor
>{g1} {f1};{g2} {f2};{e2};{p2}

Italian = g1 f1 e1 p1
Data;Cognome e Nome;Cell;e-mail;Barca
>3/11/2026;{f1} {g1};{p1};{e1};{x}

Italian = g1 f1 e1
Ragione sociale;Referente;Nome;Cognome;Mail referente
>{x};{s};{g1};{f1};{e1}

Portuguese = g1 f1 e1 p1
N.º;Nome do sócio;Correio eletrónico;Telemóvel;Embarcação
>12;{g1} {f1};{e1};{p1};{x}

Dutch = g1 f1 e1 p1
Deelnemerslijst;;;;
Roepnaam;Familienaam;E-mailadres (privé);Tel. mobiel;Dieet
>{g1};{f1};{e1};{p1};geen

Dutch = g1 f1 e1 | g2 f2 e2
Leerling;E-mail leerling;Ouder/voogd;E-mail ouder/voogd
>{g1} {f1};{e1};{g2} {f2};{e2}

Danish = g1 f1 e1 p1
Tilmeldte;;;
Deltagers navn;Mobiltlf.;Mail;Madønsker
>{g1} {f1};{p1};{e1};{x}

Swedish = g1 f1 e1 p1
Anmälda;;;
Deltagare;Mobiltelefonnummer;Mejladress;Specialkost
>{g1} {f1};{p1};{e1};{x}

Norwegian = g1 f1 e1 p1
Påmeldte;;;
For- og etternavn;Mobiltelefon;E-post;Matønsker
>{g1} {f1};{p1};{e1};{x}

Polish = g1 f1 e1 p1
Lista uczestników;;;
Imię uczestnika;Nazwisko uczestnika;Telefon komórkowy;Poczta e-mail
>{g1};{f1};{p1};{e1}

Polish = g1 f1 | g2 f2 e2
Imię i nazwisko ucznia;Klasa;Opiekun;E-mail opiekuna
>{g1} {f1};4a;{g2} {f2};{e2}

Finnish = g1 f1 e1 p1
Osallistujan nimi;Sähköposti;Puhelin;Erityisruokavalio
>{g1} {f1};{e1};{p1};{x}
"""


def made(template: str, pick: random.Random) -> Sheet:
    """A sheet of one template."""
    head, *lines = template.strip("\n").split("\n")
    language, _, wanted = head.partition(" = ")
    m = Maker(pick, LANGUAGES[language])
    people: list[Somebody] = []
    kept: list[str] = []
    cells: list[list[str]] = []
    for line in lines:
        for _ in range(pick.randrange(6, 13) if line.startswith(">") else 1):
            if not line.startswith(">"):
                if not line.startswith("<"):
                    cells.append(line.split(";"))
                continue
            values: dict[str, str] = {}
            for who in "123":
                given, family = m.who()
                values |= {
                    f"g{who}": given,
                    f"f{who}": family,
                    f"e{who}": m.address(given, family),
                    f"E{who}": m.address(given, family),
                }
                values |= {f"p{who}": m.phone(), f"q{who}": m.phone()}
            values |= {
                "x": m.pick.choice(("Alto", "Sandpiper", "Quay Street 4", "3b", "Ebbhaven")),
                "s": " ".join(m.who()),
                "t": m.address(*m.who()),
            }
            row = re.sub(r"\{(\w+)\}", lambda mark, values=values: values[mark[1]], line[1:])  # type: ignore[misc]
            cells.append(row.split(";"))
            kept += [values[mark] for mark in ("x", "s", "t") if f"{{{mark}}}" in line]
            for one in wanted.split("|"):
                marks = [mark for mark in one.split() if f"{{{mark}}}" in line]
                name = " ".join(values[mark] for mark in marks if mark[0] in "gf")
                people.append(
                    Somebody(
                        name, [values[k] for k in marks if k[0] in "eE"], [values[k] for k in marks if k[0] in "pq"]
                    )
                )
    sheet = Sheet(cells, people, kept)
    sheet.region = LANGUAGES[language].region
    sheet.codec = pick.choice(("utf-8", "utf-8-sig", *LANGUAGES[language].codecs))
    sheet.workbook = pick.random() < 0.5
    return sheet


def everyone(templates: str, seed: int, rounds: int) -> Iterator[tuple[str, Sheet]]:
    """All templates, so many times each."""
    for round_ in range(rounds):
        for number, template in enumerate(templates.strip("\n").split("\n\n")):
            about = f"{round_} {template.split()[0]} template{number + 1}"
            yield about, made(template, random.Random(f"{seed}/{about}"))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seed", type=int, default=7)
    parser.add_argument("--rounds", type=int, default=4)
    parser.add_argument("--show", type=int, default=0)
    args = parser.parse_args()
    for templates in (TEMPLATES, LATER):
        run(everyone(templates, args.seed, args.rounds), args.show, args.seed)


if __name__ == "__main__":
    main()

"""Other people's names for the columns of a plan, in some languages of the trade."""

from __future__ import annotations

import re
import unicodedata

_WORDS = {
    "name": """
        name, tag, tag name, tag number, tag no, device, device name, host, host name, station,
        station name, equipment, item, participant, node, node name, Gerät, Gerätename,
        Teilnehmer, Bezeichnung, Benennung, Betriebsmittel, Betriebsmittelkennzeichen, BMK,
        Stationsname, nom, appareil, repère, équipement, désignation, station, nombre, equipo,
        dispositivo, etiqueta, nome, apparecchio, sigla, equipamento, naam, apparaat, toestel,
        nazwa, urządzenie, název, zařízení, namn, enhet, navn, enhed, nimi, laite""",
    "address": """
        address, IP, IP address, IPv4, IPv4 address, IP addr, IP no, new IP, planned IP, target
        IP, Adresse, IP-Adresse, IPv4-Adresse, IP-Adr, Soll-IP, Adresse IP, dirección,
        dirección IP, indirizzo, indirizzo IP, endereço, endereço IP, adres, IP-adres, adres
        IP, adresa, IP adresa, adress, IP-adress, osoite, IP-osoite""",
    "mask": """
        mask, subnet mask, netmask, net mask, network mask, subnet, prefix, prefix length,
        CIDR, Maske, Subnetzmaske, Netzmaske, Netzwerkmaske, Subnetmaske, Subnetz, Präfix,
        Präfixlänge, Netzpräfix, masque, masque de
        sous-réseau, máscara, máscara de subred, máscara de sub-rede, maschera, maschera di
        sottorete, subnetmasker, netwerkmasker, maska, maska podsieci, maska sítě, maska
        podsítě, nätmask, netmaske, verkkopeite, aliverkon peite""",
    "gateway": """
        gateway, default gateway, GW, router, default router, Standardgateway,
        Standard-Gateway, passerelle, passerelle par défaut, puerta de enlace, pasarela,
        gateway predefinito, gateway padrão, standaardgateway, brama, brama domyślna, výchozí
        brána, brána, standardgateway, yhdyskäytävä""",
    "mac": """
        MAC, MAC address, MAC ID, MAC addr, Ethernet address, hardware address, HW address,
        physical address, MAC-Adresse, MAC-Adr, Hardwareadresse, HW-Adresse, HW-Adr,
        physikalische Adresse, adresse MAC, dirección MAC, indirizzo MAC, endereço MAC,
        MAC-adres, adres MAC, MAC adresa, MAC-adress, MAC-osoite""",
    "circuit": "circuit, circuit ID, relay circuit",
    "group": """
        group, cell, line, production line, panel, area, zone, section, system, plant section,
        unit, Anlage, Anlagenteil, Gruppe, Bereich, Linie, Zelle, Teilanlage, groupe, ligne,
        cellule, grupo, línea, celda, gruppo, linea, cella, grupa, linia, skupina, linka,
        grupp, gruppe, ryhmä""",
    "kind": """
        kind, type, device type, category, class, Typ, Gerätetyp, Art, Geräteart, type
        d'appareil, tipo, tipo de equipo, tipo di dispositivo, soort, apparaattype, typ
        urządzenia, rodzaj, typ zařízení, tyyppi""",
    "place": """
        place, location, position, room, cabinet, mounting place, Ort, Einbauort, Standort,
        Schrank, Schaltschrank, Raum, emplacement, lieu, armoire, localisation, ubicación,
        lugar, armario, posizione, ubicazione, quadro, luogo, local, plaats, locatie, kast,
        lokalizacja, miejsce, szafa, umístění, místo, rozvaděč, plats, skåp, sted, sijainti""",
    "maker": """
        maker, manufacturer, vendor, make, brand, Hersteller, Fabrikat, fabricant, marque,
        constructeur, fabricante, marca, produttore, costruttore, fabrikant, merk, producent,
        výrobce, tillverkare, fabrikat, produsent, valmistaja""",
    "product": """
        product, model, part number, part no, article, article number, order number, order no,
        order code, catalog number, catalogue number, Produkt, Modell, Artikel, Artikelnummer,
        Bestellnummer, Bestell-Nr, produit, modèle, référence, producto, modelo, prodotto,
        modello, produto, artikelnummer, numer katalogowy, výrobek, malli, tuote""",
    "serial": """
        serial, serial number, serial no, S/N, SN, Seriennummer, Serien-Nr, Serial-Nr, numéro
        de série, n° de série, número de serie, numero di serie, matricola, número de série,
        serienummer, numer seryjny, nr seryjny, sériové číslo, výrobní číslo, sarjanumero""",
    "firmware": """
        firmware, firmware version, firmware revision, FW, FW version, revision, Firmwarestand,
        Firmware-Version, Softwarestand, version du firmware, versión de firmware, versione
        firmware, firmwareversie, wersja firmware, verze firmwaru""",
    "note": """
        note, notes, comment, comments, remark, remarks, description, Bemerkung, Bemerkungen,
        Kommentar, Anmerkung, Notiz, Beschreibung, Hinweis, remarque, remarques, commentaire,
        observación, observaciones, comentario, nota, notas, commento, osservazioni, opmerking,
        opmerkingen, uwagi, komentarz, opis, poznámka, popis, anteckning, bemærkning, huomautus""",
}


def meaning_of(heading: str) -> str | None:
    """The column of the plan that a heading means, or None.

    Case, accents, spaces and signs do not matter, nor what stands in brackets or below in the cell.
    """
    return _MEANINGS.get(_plain(heading)) or _MEANINGS.get(_plain(_core_of(heading)))


def _core_of(heading: str) -> str:
    """A heading without what explains it: in brackets, or after a line end."""
    return re.sub(r"\(.*?\)|\[.*?\]", "", heading.strip().split("\n")[0])


def _plain(text: str) -> str:
    spelt = text.casefold().replace("ł", "l").replace("ø", "o").replace("ß", "ss")
    spelt = unicodedata.normalize("NFKD", spelt)
    return "".join(character for character in spelt if character.isalnum())


_MEANINGS = {_plain(word): column for column, words in _WORDS.items() for word in words.split(",")}

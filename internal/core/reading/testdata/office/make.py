#!/usr/bin/python3
"""Makes the files in this folder with a spreadsheet program, so that what is
read back was written by another hand.

On Debian: apt-get install libreoffice-calc python3-uno; /usr/bin/python3 make.py
The tests read the files as they lie here and do not need the program.
"""
import os, subprocess, tempfile, time
import uno
from com.sun.star.beans import PropertyValue
from com.sun.star.util import Date
from com.sun.star.table import CellRangeAddress
from com.sun.star.lang import Locale

HERE = os.path.dirname(os.path.abspath(__file__))
# Day numbers count from 30 December 1899: 46327 is 1 November 2026.
FIRST = 46327
VESSELS = ["Petrel", "Gannet", "Fulmar", "Kittiwake"]


def prop(name, value):
    p = PropertyValue()
    p.Name, p.Value = name, value
    return p


def connect():
    profile = tempfile.mkdtemp()
    office = subprocess.Popen(["soffice", "--headless", "--norestore", f"-env:UserInstallation=file://{profile}",
                               "--accept=pipe,name=making;urp;"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    resolver = uno.getComponentContext().ServiceManager.createInstance("com.sun.star.bridge.UnoUrlResolver")
    for _ in range(120):
        try:
            context = resolver.resolve("uno:pipe,name=making;urp;StarOffice.ComponentContext")
            CONTEXT.append(context)
            return office, context.ServiceManager.createInstanceWithContext("com.sun.star.frame.Desktop", context)
        except Exception:
            time.sleep(0.5)
    raise SystemExit("the spreadsheet program does not answer")


def filter_for(kind):
    """The name of the program's own filter for files with an extension."""
    if kind == "csv":  # text could be a letter as well
        return "Text - txt - csv (StarCalc)"
    detection = uno_context().ServiceManager.createInstance("com.sun.star.document.TypeDetection")
    found = detection.getByName(detection.queryTypeByURL(f"file:///x.{kind}"))
    return next(p.Value for p in found if p.Name == "PreferredFilter")


CONTEXT = []


def uno_context():
    return CONTEXT[0]


class Book:
    def __init__(self, desktop):
        self.doc = desktop.loadComponentFromURL("private:factory/scalc", "_blank", 0, (prop("Hidden", True),))
        self.sheet = self.doc.Sheets.getByIndex(0)

    def form(self, cell, code):
        formats, us = self.doc.NumberFormats, Locale("en", "US", "")
        key = formats.queryKey(code, us, False)
        cell.NumberFormat = key if key >= 0 else formats.addNew(code, us)

    def put(self, column, row, value, code=None):
        cell = self.sheet.getCellByPosition(column, row)
        if isinstance(value, str) and value.startswith("="):
            cell.Formula = value
        elif isinstance(value, str):
            cell.String = value
        else:
            cell.Value = value
        if code:
            self.form(cell, code)

    def merge(self, left, top, right, bottom):
        self.sheet.getCellRangeByPosition(left, top, right, bottom).merge(True)

    def save(self, name, kind, password=None, **more):
        props = [prop("FilterName", filter_for(kind))] + [prop(k, v) for k, v in more.items()]
        if password:
            props.append(prop("Password", password))
        self.doc.storeToURL(f"file://{HERE}/{name}.{kind}", tuple(props))

    def save_all(self, name):
        for kind in ("xlsx", "ods", "xls"):
            self.save(name, kind)
        # Comma, double quotes, UTF-8, as shown, with texts as they are.
        self.save(name, "csv", FilterOptions="44,34,76,1,,0,false,true,false")

    def close(self):
        self.doc.close(True)


def values(desktop, name, null_date=None):
    """One row for each kind of value, beneath a title and a header of two rows."""
    b = Book(desktop)
    b.sheet.Name = "Uplift"
    if null_date:
        b.doc.NullDate = null_date
    shift = 0 if not null_date else 1462  # days from 30 December 1899 to 1 January 1904
    b.put(0, 0, "Fuel uplift")
    b.merge(0, 0, 3, 0)
    heads = ["Vessel", "Day", "Time", "Bunkered at", "Litres", "Share", "Price", "Paid", "Note", "Sum", "Bad"]
    for i, head in enumerate(heads):
        b.put(i, 2, head)
    for i in range(12):
        row = 3 + i
        b.put(0, row, VESSELS[i % 4])
        b.put(1, row, FIRST + i - shift, "YYYY-MM-DD")
        b.put(2, row, (i + 1) / 24, "HH:MM:SS")
        b.put(3, row, FIRST + i + 0.25 - shift, "YYYY-MM-DD HH:MM:SS")
        b.put(4, row, 1000 + 12.5 * i, "#,##0.00")
        b.put(5, row, 0.05 * (i + 1), "0.0%")
        b.put(6, row, 1.5 + i / 4, "[$€-2] #,##0.00")
        b.put(7, row, "=TRUE()" if i % 2 == 0 else "=FALSE()")
        b.put(8, row, ["", "long  blank", "quote \" and, comma", "Ærø – 2nd\nline"][i % 4])
        b.put(9, row, f"=E{row + 1}*2")
    b.put(10, 3, "=1/0")
    b.put(10, 4, "=NA()")
    b.save_all(name)
    b.close()


def months(desktop):
    """A second sheet, a hidden one and a hidden row; merged headers over two rows."""
    b = Book(desktop)
    b.sheet.Name = "October"
    b.put(0, 0, "Vessel")
    b.put(1, 0, "Litres")
    b.merge(1, 0, 2, 0)
    b.merge(0, 0, 0, 1)
    b.put(1, 1, "Harbour")
    b.put(2, 1, "Sea")
    for i, vessel in enumerate(VESSELS):
        b.put(0, 2 + i, vessel)
        b.put(1, 2 + i, 100 * (i + 1))
        b.put(2, 2 + i, 7 * i)
    b.sheet.Rows.getByIndex(3).IsVisible = False
    b.doc.Sheets.insertNewByName("Notes", 1)
    b.doc.Sheets.getByName("Notes").getCellByPosition(1, 1).String = "kept by Lars"
    b.doc.Sheets.insertNewByName("Workings", 2)
    b.doc.Sheets.getByName("Workings").IsVisible = False
    b.save_all("sheets")
    b.close()


def locked(desktop):
    b = Book(desktop)
    b.put(0, 0, "Vessel")
    b.put(0, 1, "Petrel")
    for kind in ("ods", "xls"):
        b.save("locked", kind, password="skerry")
    b.close()


if __name__ == "__main__":
    office, desktop = connect()
    try:
        values(desktop, "values")
        values(desktop, "values1904", Date(1, 1, 1904))
        months(desktop)
        locked(desktop)
    finally:
        try:
            desktop.terminate()
        except Exception:
            pass
        office.wait(20)

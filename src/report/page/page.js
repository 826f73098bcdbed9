// Makes the heads of tables sort them. No character here may need an escape in HTML: see page.cpp.
'use strict';
(function () {
  function value(row, column, number) {
    var text = row.cells[column].textContent;
    if (!number) return text.toLowerCase();
    var n = parseFloat(text.replace(/[^0-9.-]/g, ''));
    return isNaN(n) ? -Infinity : n;
  }
  function compare(a, b) {
    if (typeof a.key === 'number') return a.key === b.key ? a.at - b.at : Math.sign(a.key - b.key);
    return a.key.localeCompare(b.key) || a.at - b.at;
  }
  function sort(table, column, down) {
    var number = table.tHead.rows[0].cells[column].classList.contains('n');
    var body = table.tBodies[0];
    var rows = Array.from(body.rows).map(function (row, at) {
      return { row: row, key: value(row, column, number), at: at };
    });
    rows.sort(compare);
    if (down) rows.reverse();
    var sorted = document.createDocumentFragment();
    rows.forEach(function (entry) { sorted.appendChild(entry.row); });
    body.appendChild(sorted);
  }
  document.querySelectorAll('table.sorts').forEach(function (table) {
    var heads = Array.from(table.tHead.rows[0].cells);
    heads.forEach(function (head, column) {
      var button = document.createElement('button');
      button.type = 'button';
      button.textContent = head.textContent;
      head.textContent = '';
      head.appendChild(button);
      button.addEventListener('click', function () {
        var down = head.getAttribute('aria-sort') === 'ascending';
        heads.forEach(function (other) { other.removeAttribute('aria-sort'); });
        head.setAttribute('aria-sort', down ? 'descending' : 'ascending');
        sort(table, column, down);
      });
    });
  });
})();

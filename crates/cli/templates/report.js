'use strict';
// Lets the pictures of the page be moved about in. Without it, the page shows each as it stands.
(() => {
  const LANE = { line: 26, bus: 26, boxes: 21, analog: 84 };
  const FAULTY = 1, ABSENT = 2, UNKNOWN = 4, ADDRESS = 8, CHECK = 16;
  const MOST_NEAR = 8; // columns of the screen for the narrowest column of the record, in tens

  const ink = (name) => getComputedStyle(document.documentElement).getPropertyValue('--' + name).trim();

  /** A time as the rest of the page writes it: a sign, digits down to a tick, a prefix. */
  function time(seconds, digits) {
    const size = Math.abs(seconds);
    const units = [[1, 's'], [1e-3, 'ms'], [1e-6, 'us'], [1e-9, 'ns'], [1e-12, 'ps']];
    const [scale, unit] = units.find(([scale]) => size >= scale * 0.9999999) || [1e-9, 'ns'];
    const places = Math.max(0, Math.min(9, digits + Math.round(Math.log10(scale))));
    const text = (size / scale).toFixed(places);
    return (seconds < 0 ? '-' : '+') + text + ' ' + unit;
  }

  class Waves {
    constructor(figure, data) {
      this.data = data;
      this.step = data.step;
      this.from = data.first[0];
      this.to = data.first[1];
      this.cursors = [null, null];
      this.rows = data.rows.map((row) => ({ ...row, starts: starts(row.runs || []) }));
      this.build(figure);
    }

    build(figure) {
      const box = document.createElement('div');
      box.className = 'waves';
      const tools = document.createElement('div');
      tools.className = 'tools';
      const button = (text, name, act) => {
        const made = document.createElement('button');
        made.type = 'button';
        made.textContent = text;
        made.setAttribute('aria-label', name);
        made.title = name;
        made.addEventListener('click', () => { act(); this.draw(); });
        tools.append(made);
      };
      button('+', 'nearer', () => this.zoom(0.5));
      button('−', 'farther', () => this.zoom(2));
      button('◀', 'earlier', () => this.pan(-0.25));
      button('▶', 'later', () => this.pan(0.25));
      button('⟲', 'as at first', () => this.reset());
      button('A', 'cursor A in the middle', () => this.put(0));
      button('B', 'cursor B in the middle', () => this.put(1));
      this.said = document.createElement('output');
      tools.append(this.said);
      this.canvas = document.createElement('canvas');
      this.canvas.tabIndex = 0;
      this.canvas.setAttribute('role', 'application');
      const caption = figure.querySelector('figcaption');
      this.canvas.setAttribute('aria-label', (caption ? caption.textContent : 'waveforms') +
        '. Keys: plus and minus zoom, arrows move, a and b set cursors, 0 goes back.');
      box.append(this.canvas, tools);
      figure.prepend(box);
      figure.classList.add('moves');
      this.listen();
      new ResizeObserver(() => this.draw()).observe(box);
    }

    listen() {
      const held = new Map();
      const canvas = this.canvas;
      let moved = 0;
      canvas.addEventListener('pointerdown', (event) => {
        canvas.setPointerCapture(event.pointerId);
        held.set(event.pointerId, event.offsetX);
        moved = 0;
      });
      canvas.addEventListener('pointermove', (event) => {
        if (!held.has(event.pointerId)) return;
        const before = [...held.values()];
        held.set(event.pointerId, event.offsetX);
        const now = [...held.values()];
        moved += Math.abs(event.movementX);
        if (now.length === 1) {
          this.shift((before[0] - now[0]) / this.scale());
        } else {
          const wide = (xs) => Math.max(8, Math.abs(xs[0] - xs[1]));
          this.zoom(wide(before) / wide(now), (now[0] + now[1]) / 2);
        }
        this.draw();
      });
      const up = (event) => {
        const single = held.size === 1;
        held.delete(event.pointerId);
        if (event.type === 'pointerup' && single && moved < 4) {
          this.cursors[event.shiftKey || (this.cursors[0] !== null && this.cursors[1] === null) ? 1 : 0] = this.at(event.offsetX);
          this.draw();
        }
      };
      canvas.addEventListener('pointerup', up);
      canvas.addEventListener('pointercancel', up);
      canvas.addEventListener('wheel', (event) => {
        // The page keeps its own wheel: zooming needs Ctrl, as pinching on a pad has it, moving a sideways wheel.
        if (event.ctrlKey || event.metaKey) {
          this.zoom(Math.exp(event.deltaY / 200), event.offsetX);
        } else if (Math.abs(event.deltaX) > Math.abs(event.deltaY)) {
          this.shift(event.deltaX / this.scale());
        } else {
          return;
        }
        event.preventDefault();
        this.draw();
      }, { passive: false });
      canvas.addEventListener('keydown', (event) => {
        if (event.ctrlKey || event.metaKey || event.altKey) return;
        const keys = {
          '+': () => this.zoom(0.5), '=': () => this.zoom(0.5), '-': () => this.zoom(2),
          'ArrowLeft': () => this.pan(-0.1), 'ArrowRight': () => this.pan(0.1),
          '0': () => this.reset(), 'Home': () => this.reset(),
          'a': () => this.put(0), 'b': () => this.put(1),
        };
        if (!keys[event.key]) return;
        event.preventDefault();
        keys[event.key]();
        this.draw();
      });
    }

    /** Pixels for each column. */
    scale() { return this.width / (this.to - this.from); }

    at(x) {
      const column = this.from + (x - this.margin) / this.scale();
      return Math.max(0, Math.min(this.data.columns, Math.round(column)));
    }

    x(column) { return this.margin + (column - this.from) * this.scale(); }

    reset() {
      [this.from, this.to] = this.data.first;
      this.cursors = [null, null];
    }

    put(which) { this.cursors[which] = Math.round((this.from + this.to) / 2); }

    pan(share) { this.shift((this.to - this.from) * share); }

    shift(columns) {
      const length = this.to - this.from;
      this.from = Math.max(0, Math.min(this.data.columns - length, this.from + columns));
      this.to = this.from + length;
    }

    zoom(by, x) {
      const length = this.to - this.from;
      const fixed = x === undefined ? (this.from + this.to) / 2 : this.from + (x - this.margin) / this.scale();
      const least = Math.min(this.data.columns, Math.max(2, this.width / (MOST_NEAR * 10)));
      const next = Math.max(least, Math.min(this.data.columns, length * by));
      this.from = fixed - (fixed - this.from) * next / length;
      this.to = this.from + next;
      this.shift(0);
    }

    draw() {
      const root = parseFloat(getComputedStyle(document.documentElement).fontSize);
      const unit = root / 16;
      const wide = this.canvas.clientWidth;
      if (!wide) return;
      const size = 11.5 * unit;
      const pen = this.canvas.getContext('2d');
      const font = size + 'px ui-monospace, Menlo, Consolas, "DejaVu Sans Mono", monospace';
      pen.font = font;
      const names = this.rows.map((row) => row.name.trim());
      const inFront = names.concat(...this.rows.map((row) => row.scale || []));
      const longest = Math.max(...inFront.map((text) => pen.measureText(text).width), 0);
      this.margin = Math.min(longest, wide * 0.3) + 12 * unit;
      this.width = Math.max(20, wide - this.margin - 8 * unit);
      const marks = this.data.marks.length ? 18 * unit : 0;
      const top = 26 * unit + marks;
      // Where there is little room, what is said of an interval has a line of its own.
      const beside = ({ from, to, text }) => {
        const [wide, gap] = [pen.measureText(text).width, 18 * unit];
        return this.x(to) + gap + wide < this.margin + this.width || this.x(from) - gap - wide > this.margin ||
          this.x(to) - this.x(from) > wide + 24 * unit;
      };
      this.tight = !this.data.dimensions.every(beside);
      const lane = (this.tight ? 40 : 22) * unit;
      const below = this.data.dimensions.length * lane;
      const heights = this.rows.map((row) => LANE[row.kind] * unit);
      const bottom = top + heights.reduce((sum, height) => sum + height, 0);
      const high = bottom + below + 10 * unit;
      const ratio = window.devicePixelRatio || 1;
      this.canvas.style.height = high + 'px';
      this.canvas.width = Math.round(wide * ratio);
      this.canvas.height = Math.round(high * ratio);
      pen.setTransform(ratio, 0, 0, ratio, 0, 0);
      pen.font = font;
      pen.textBaseline = 'middle';
      const inks = {};
      const of = (name) => inks[name] || (inks[name] = ink(name));
      const brush = { pen, unit, size, of };
      pen.fillStyle = of('ground');
      pen.fillRect(0, 0, wide, high);
      this.axis(brush, bottom);
      pen.save();
      pen.beginPath();
      pen.rect(this.margin, 0, this.width, high);
      pen.clip();
      this.marks(brush, bottom);
      let y = top;
      this.rows.forEach((row, place) => {
        this[row.kind](brush, row, y + 4 * unit, y + heights[place] - 4 * unit);
        y += heights[place];
      });
      this.dimensions(brush, top, bottom, lane);
      this.lines(brush, bottom);
      pen.restore();
      y = top;
      pen.textAlign = 'right';
      this.rows.forEach((row, place) => {
        pen.fillStyle = of(row.name.startsWith(' ') ? 'faint' : 'text');
        const name = fitting(pen, row.name.trim(), this.margin - 10 * unit);
        pen.fillText(name, this.margin - 6 * unit, y + heights[place] / 2);
        if (row.scale) {
          pen.fillStyle = of('faint');
          pen.fillText(row.scale[1], this.margin - 6 * unit, y + 8 * unit);
          pen.fillText(row.scale[0], this.margin - 6 * unit, y + heights[place] - 8 * unit);
        }
        y += heights[place];
      });
      this.tell();
    }

    axis({ pen, unit, of }, bottom) {
      const span = (this.to - this.from) * this.step;
      const most = Math.max(1, Math.floor(this.width / (110 * unit)));
      const rough = span / most;
      const power = Math.pow(10, Math.floor(Math.log10(rough)));
      const step = [1, 2, 5, 10].map((digit) => digit * power).find((step) => step >= rough * 0.999) || power * 10;
      const first = this.data.start + this.from * this.step;
      pen.textAlign = 'center';
      pen.lineWidth = 1;
      // One unit for the whole axis.
      const largest = Math.max(Math.abs(first), Math.abs(first + span));
      const units = [[1, 's'], [1e-3, 'ms'], [1e-6, 'us'], [1e-9, 'ns'], [1e-12, 'ps']];
      const [scale, name] = units.find(([scale]) => largest >= scale) || units[4];
      const places = Math.max(0, Math.min(9, -Math.floor(Math.log10(step / scale) + 1e-9)));
      for (let number = Math.ceil(first / step - 1e-9); number * step <= first + span * 1.000001; number += 1) {
        const x = this.x((number * step - this.data.start) / this.step);
        pen.strokeStyle = of(number === 0 ? 'faint' : 'grid');
        pen.beginPath();
        pen.moveTo(x, 20 * unit);
        pen.lineTo(x, bottom);
        pen.stroke();
        const text = (number * step / scale).toFixed(places) + ' ' + name;
        const half = pen.measureText(text).width / 2;
        pen.fillStyle = of('text');
        pen.fillText(text, Math.max(this.margin + half, Math.min(this.margin + this.width - half, x)), 11 * unit);
      }
    }

    marks({ pen, unit, of }, bottom) {
      let free = -Infinity;
      pen.textAlign = 'left';
      for (const [column, name] of this.data.marks) {
        const x = this.x(column);
        if (x < this.margin - 1 || x > this.margin + this.width) continue;
        pen.strokeStyle = of('marker');
        pen.setLineDash([3, 3]);
        pen.beginPath();
        pen.moveTo(x, 24 * unit);
        pen.lineTo(x, bottom);
        pen.stroke();
        pen.setLineDash([]);
        if (x < free) continue;
        pen.fillStyle = of('marker');
        pen.fillText(name, x + 4 * unit, 32 * unit);
        free = x + pen.measureText(name).width + 12 * unit;
      }
    }

    /** The runs in view, as [from, to, code], in columns of the screen; what is too narrow is one busy run. */
    *seen(row) {
      const { runs, starts } = row;
      let place = Math.max(0, after(starts, this.from) - 1);
      let busy = null;
      for (; place < starts.length && starts[place] < this.to; place += 1) {
        const from = this.x(starts[place]);
        const to = this.x(starts[place] + runs[2 * place]);
        const code = runs[2 * place + 1];
        if (to - from < 1.2 && starts.length > 1) {
          busy = busy || { from, edges: 0 };
          busy.to = to;
          busy.edges += 1;
          busy.code = code;
          busy.worst = Math.max(busy.worst || 0, code);
          continue;
        }
        if (busy) { yield narrow(busy); busy = null; }
        yield [from, to, code];
      }
      if (busy) yield narrow(busy);
    }

    line(brush, row, high, low) {
      const { pen, unit, of } = brush;
      const levels = [low, high, null, (low + high) / 2];
      let before = null;
      pen.lineWidth = 1.3 * unit;
      for (const [from, to, code] of this.seen(row)) {
        if (code >= 4 && code < 7) {
          band(brush, from, to, high, low, 'signal', code);
          before = null;
        } else if (code === 2) {
          unknown(brush, from, to, high, low);
          before = null;
        } else if (code < 4) {
          pen.strokeStyle = of('signal');
          pen.beginPath();
          if (before !== null && before !== levels[code]) pen.moveTo(from, before), pen.lineTo(from, levels[code]);
          else pen.moveTo(from, levels[code]);
          pen.lineTo(to, levels[code]);
          pen.stroke();
          before = levels[code];
        } else {
          before = null;
        }
      }
    }

    bus(brush, row, high, low) {
      const { pen, unit, of } = brush;
      for (const [from, to, code] of this.seen(row)) {
        if (code >= 4 && code < 7) band(brush, from, to, high, low, 'bus', code);
      }
      const slant = 3 * unit;
      this.each(row, (from, to, is, texts) => {
        const side = Math.min(slant, (to - from) / 2);
        const middle = (high + low) / 2;
        pen.fillStyle = of(is & UNKNOWN ? 'ground' : 'bus-fill');
        pen.strokeStyle = of(is & UNKNOWN ? 'unknown' : 'bus');
        pen.lineWidth = 1.2 * unit;
        pen.beginPath();
        [[from, middle], [from + side, high], [to - side, high], [to, middle], [to - side, low], [from + side, low]]
          .forEach(([x, y]) => pen.lineTo(x, y));
        pen.closePath();
        pen.fill();
        pen.stroke();
        this.write(brush, from + slant, to - slant, texts, middle, 'text');
      });
    }

    boxes(brush, row, high, low) {
      const { pen, unit, of } = brush;
      const field = row.name.startsWith(' ');
      this.each(row, (from, to, is, texts) => {
        let [edge, fill, word] = ['frame', field ? 'ground' : 'frame-fill', 'text'];
        if (is & FAULTY) [edge, fill, word] = ['bad', 'bad-fill', 'bad'];
        else if (is & ABSENT) [edge, fill, word] = ['frame', 'frame', 'ground'];
        else if (is & ADDRESS) fill = 'frame-fill';
        else if (is & CHECK) [edge, fill] = ['bus', 'bus-fill'];
        const right = Math.max(to - 1, from + (is & ABSENT ? 5 : 1) * unit);
        pen.fillStyle = of(fill);
        pen.strokeStyle = of(edge);
        pen.lineWidth = 1.2 * unit;
        pen.beginPath();
        pen.rect(from + 0.5, high, right - from - 0.5, low - high);
        pen.fill();
        pen.stroke();
        this.write(brush, from, to, texts, (high + low) / 2, word);
      });
    }

    analog(brush, row, high, low) {
      const { pen, unit, of } = brush;
      const { runs } = row;
      const y = (share) => low - share / 1000 * (low - high);
      const per = Math.max(1, Math.floor(1 / this.scale()));
      const above = [], below = [];
      for (let column = Math.floor(this.from); column < this.to; column += per) {
        let least = Infinity, most = -1;
        for (let one = column; one < column + per && one < this.data.columns; one += 1) {
          if (runs[2 * one] < 0) continue;
          least = Math.min(least, runs[2 * one]);
          most = Math.max(most, runs[2 * one + 1]);
        }
        if (most < 0) continue;
        above.push([this.x(column), y(most) - 0.6]);
        below.unshift([this.x(column), y(least) + 0.6]);
      }
      pen.fillStyle = of('analog-fill');
      pen.strokeStyle = of('analog');
      pen.lineWidth = 1.2 * unit;
      pen.beginPath();
      [...above, ...below].forEach(([x, y]) => pen.lineTo(x, y));
      pen.closePath();
      pen.fill();
      pen.stroke();
      pen.strokeStyle = pen.fillStyle = of('marker');
      pen.lineWidth = unit;
      pen.textAlign = 'right';
      for (const [share, text] of row.levels || []) {
        pen.setLineDash([3, 3]);
        pen.beginPath();
        pen.moveTo(this.margin, y(share));
        pen.lineTo(this.margin + this.width, y(share));
        pen.stroke();
        pen.setLineDash([]);
        pen.fillText(text, this.margin + this.width - 2 * unit, y(share) - 7 * unit);
      }
    }

    /** The boxes in view. */
    each(row, act) {
      for (const [column, columns, is, texts] of row.boxes || []) {
        if (column + columns < this.from || column > this.to) continue;
        act(Math.max(this.x(column), this.margin - 20), Math.min(this.x(column + columns), this.margin + this.width + 20), is, texts);
      }
    }

    /** The longest text that fits. */
    write({ pen, of }, from, to, texts, y, name) {
      const [left, right] = [Math.max(from, this.margin), Math.min(to, this.margin + this.width)];
      const last = texts[texts.length - 1];
      const short = last === undefined ? [] : [last.replace(/^0[xb]/, '')];
      const text = [...texts, ...short].find((text) => pen.measureText(text).width <= right - left - 2);
      if (text === undefined) return;
      pen.textAlign = 'center';
      pen.fillStyle = of(name);
      pen.fillText(text, (left + right) / 2, y);
    }

    dimensions({ pen, unit, of }, top, bottom, lane) {
      this.data.dimensions.forEach(({ from, to, text, bad }, place) => {
        const y = bottom + 14 * unit + lane * place;
        const [left, right] = [this.x(from), this.x(to)];
        pen.strokeStyle = pen.fillStyle = of(bad ? 'bad' : 'measure');
        pen.lineWidth = unit;
        pen.setLineDash([3, 3]);
        for (const x of [left, right]) {
          pen.beginPath();
          pen.moveTo(x, top);
          pen.lineTo(x, y + 5 * unit);
          pen.stroke();
        }
        pen.setLineDash([]);
        pen.lineWidth = 1.4 * unit;
        const wide = pen.measureText(text).width;
        const [near, far] = [Math.max(left, this.margin), Math.min(right, this.margin + this.width)];
        if (far < near) return;
        pen.beginPath();
        if (far - near > wide + 24 * unit) {
          const middle = (near + far) / 2;
          pen.moveTo(left, y), pen.lineTo(middle - wide / 2 - 4 * unit, y);
          pen.moveTo(middle + wide / 2 + 4 * unit, y), pen.lineTo(right, y);
          pen.textAlign = 'center';
          pen.fillText(text, middle, y);
        } else {
          pen.moveTo(left - 12 * unit, y), pen.lineTo(right + 12 * unit, y);
          const end = this.margin + this.width;
          const fits = right + 18 * unit + wide < end;
          pen.textAlign = fits || this.tight ? 'left' : 'right';
          if (this.tight) {
            const x = Math.max(this.margin, Math.min(left, end - wide));
            pen.fillText(fitting(pen, text, this.width), x, y + 17 * unit);
          } else {
            pen.fillText(text, fits ? right + 18 * unit : left - 18 * unit, y);
          }
        }
        pen.stroke();
      });
    }

    /** The cursors. */
    lines({ pen, unit, of }, bottom) {
      this.cursors.forEach((column, which) => {
        if (column === null) return;
        const x = this.x(column);
        pen.strokeStyle = pen.fillStyle = of('text');
        pen.lineWidth = 1.5 * unit;
        pen.beginPath();
        pen.moveTo(x, 20 * unit);
        pen.lineTo(x, bottom);
        pen.stroke();
        pen.textAlign = 'left';
        pen.fillText('AB'[which], x + 3 * unit, bottom - 8 * unit);
      });
    }

    tell() {
      const at = (column) => time(this.data.start + column * this.step, this.data.digits);
      const [a, b] = this.cursors;
      const said = [];
      if (a !== null) said.push('A ' + at(a));
      if (b !== null) said.push('B ' + at(b));
      if (a !== null && b !== null) {
        const between = time((b - a) * this.step, this.data.digits).replace('+', '');
        said.push('from A to B ' + between + ', in steps of ' + time(this.step, this.data.digits + 2).slice(1).replace(/\.?0+ /, ' '));
      }
      this.said.textContent = said.length ? said.join(', ') :
        at(this.from) + ' to ' + at(this.to) + '; drag or arrows move, + and − zoom, a click sets a cursor';
    }
  }

  function starts(runs) {
    const all = [];
    for (let place = 0, column = 0; place < runs.length; place += 2) {
      all.push(column);
      column += runs[place];
    }
    return all;
  }

  /** How many of the rising numbers are not above a number. */
  function after(numbers, number) {
    let [low, high] = [0, numbers.length];
    while (low < high) {
      const middle = (low + high) >> 1;
      if (numbers[middle] <= number) low = middle + 1; else high = middle;
    }
    return low;
  }

  /** Runs too narrow to be told apart: a single one as a line, more as a band. */
  function narrow({ from, to, edges, worst }) {
    return [from, Math.max(to, from + 1.2), worst >= 4 && worst < 7 ? worst : edges > 2 * (to - from) ? 6 : 5];
  }

  function band({ pen, of }, from, to, high, low, name, code) {
    pen.globalAlpha = [0.52, 0.68, 0.86][code - 4];
    pen.fillStyle = of(name);
    pen.fillRect(from, high, Math.max(to - from, 1), low - high);
    pen.globalAlpha = 1;
  }

  function unknown({ pen, unit, of }, from, to, high, low) {
    pen.globalAlpha = 0.15;
    pen.fillStyle = of('unknown');
    pen.fillRect(from, high, to - from, low - high);
    pen.globalAlpha = 1;
    pen.strokeStyle = of('unknown');
    pen.strokeRect(from, high, to - from, low - high);
    if (to - from < 14 * unit) return;
    pen.textAlign = 'center';
    pen.fillStyle = of('unknown');
    pen.fillText('?', (from + to) / 2, (high + low) / 2);
  }

  function fitting(pen, text, room) {
    if (pen.measureText(text).width <= room) return text;
    let kept = text.length - 1;
    while (kept > 1 && pen.measureText(text.slice(0, kept) + '…').width > room) kept -= 1;
    return text.slice(0, kept) + '…';
  }

  const all = [];
  const begin = (figure) => {
    const data = figure.querySelector('script[type="application/json"]');
    if (data && !figure.classList.contains('moves')) all.push(new Waves(figure, JSON.parse(data.textContent)));
  };
  // Each picture begins to live when it comes into sight.
  const watch = new IntersectionObserver((entries) => {
    for (const entry of entries) {
      if (!entry.isIntersecting) continue;
      watch.unobserve(entry.target);
      begin(entry.target);
    }
  }, { rootMargin: '400px' });
  document.querySelectorAll('.picture').forEach((figure) => watch.observe(figure));
  matchMedia('(prefers-color-scheme: dark)').addEventListener('change', () => all.forEach((waves) => waves.draw()));
  // What a link leads to is opened, and n and p go from violation to violation.
  const open = () => {
    const target = location.hash && document.getElementById(decodeURIComponent(location.hash.slice(1)));
    for (let part = target; part; part = part.parentElement) if (part.tagName === 'DETAILS') part.open = true;
    if (target) target.scrollIntoView();
  };
  addEventListener('hashchange', open);
  open();
  let current = -1;
  addEventListener('keydown', (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || !['n', 'p'].includes(event.key)) return;
    const links = [...new Set([...document.querySelectorAll('a.violation')].map((link) => link.getAttribute('href')))];
    if (!links.length) return;
    current = (current + (event.key === 'n' ? 1 : -1 + links.length)) % links.length;
    location.hash = links[current];
    const canvas = document.querySelector(links[current] + ' canvas');
    if (canvas) canvas.focus({ preventScroll: true });
  });
  addEventListener('beforeprint', () => document.querySelectorAll('details').forEach((part) => { part.open = true; }));
})();

<script setup lang="ts">
/** The dome above the water line, mirrored in bars: drawn from a few numbers, the same every time. */
const CENTRE = 360
const LINE = 251
const ribs = [38, 77].flatMap((reach) => [-reach, reach])
const windows = Array.from({ length: 13 }, (_, index) => CENTRE - 117.6 + index * 19.2)
const sway = (index: number) => Math.sin(index * 2.399) * 0.5 + 0.5
const mirrored = Array.from({ length: 52 }, (_, index) => {
  const x = 231 + index * 5
  const arch = Math.sqrt(Math.max(0, 1 - ((x - CENTRE) / 130) ** 2))
  return { x, height: 6 + arch * (40 + sway(index) * 18), opacity: 0.36 - arch * 0.16 }
})
const ripples = Array.from({ length: 256 }, (_, index) => ({
  x: 1 + index * 5,
  height: sway(index * 3) > 0.97 ? 7 : 1.5 + sway(index),
})).filter(({ x }) => x < 224 || x > 492)
</script>

<template>
  <svg viewBox="0 0 1280 420" preserveAspectRatio="xMidYMid slice" aria-hidden="true">
    <g fill="var(--sunk)" stroke="var(--rule-strong)" stroke-width="1.1">
      <path d="M44 251A60 20 0 0 1 164 251Z" />
      <path d="M1086 251A82 26 0 0 1 1250 251Z" />
      <path d="M1226 251A50 15 0 0 1 1326 251Z" />
    </g>
    <path d="M360 62V92" stroke="#a9623a" stroke-width="4" />
    <g fill="var(--accent)">
      <path d="M350 108V95Q360 86 370 95V108Z" />
      <path d="M238 228A122 120 0 0 1 482 228Z" />
      <path d="M230 233H490V251H230Z" />
      <path d="M224 228H496V233H224Z" />
    </g>
    <g fill="none" stroke="var(--ground)" stroke-width="2.2">
      <path d="M360 110V226M346 109.5H374" />
      <path
        v-for="reach in ribs"
        :key="reach"
        :d="`M${CENTRE + reach} 226C${CENTRE + reach} ${174 - Math.abs(reach) / 30} ${CENTRE + reach * 0.62} ${146 - Math.abs(reach) / 4} ${CENTRE + (reach > 0 ? 1 : -1) * (4 + Math.abs(reach) / 14)} 110`"
      />
    </g>
    <path v-for="x in windows" :key="x" :d="`M${x} 248V241A3.2 3.2 0 0 1 ${x + 6.4} 241V248Z`" fill="var(--ground)" />
    <path :d="`M0 ${LINE + 1}H1280`" stroke="var(--ink)" stroke-width="2.2" />
    <rect
      v-for="bar in mirrored"
      :key="bar.x"
      :x="bar.x"
      y="257"
      width="3"
      :height="bar.height"
      fill="var(--accent)"
      :opacity="bar.opacity"
    />
    <rect
      v-for="bar in ripples"
      :key="bar.x"
      :x="bar.x"
      y="257"
      width="3"
      :height="bar.height"
      fill="var(--ink-4)"
      opacity="0.5"
    />
  </svg>
</template>

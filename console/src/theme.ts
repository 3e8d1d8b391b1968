import { definePreset } from '@primeuix/themes'
import Aura from '@primeuix/themes/aura'

// Our own palette: deep water for what can be acted on, sand for the paper.
const water = { 50: '#eef5f7', 100: '#d5e6eb', 200: '#abcdd7', 300: '#7bb0bf', 400: '#4b8fa3', 500: '#2a7087', 600: '#1f5b70', 700: '#17495c', 800: '#123a49', 900: '#0d2a36', 950: '#081c24' }
const sand = { 0: '#ffffff', 50: '#faf8f4', 100: '#f2eee6', 200: '#e4ddd0', 300: '#cdc3b1', 400: '#a89d8a', 500: '#82786a', 600: '#635b50', 700: '#4b453d', 800: '#332f2a', 900: '#211f1c', 950: '#151412' }
const night = { 0: '#ffffff', 50: '#eceff0', 100: '#d3d9db', 200: '#aeb8bc', 300: '#87949a', 400: '#67757c', 500: '#4d5a61', 600: '#3b464c', 700: '#2c353a', 800: '#1f272b', 900: '#161c20', 950: '#0f1417' }

export const preset = definePreset(Aura, {
  semantic: {
    primary: water,
    colorScheme: {
      light: {
        surface: sand,
        primary: { color: '{primary.600}', contrastColor: '#ffffff', hoverColor: '{primary.700}', activeColor: '{primary.800}' },
        formField: { paddingY: '0.3rem' },
      },
      dark: {
        surface: night,
        primary: { color: '{primary.300}', contrastColor: '{surface.950}', hoverColor: '{primary.200}', activeColor: '{primary.100}' },
      },
    },
  },
})

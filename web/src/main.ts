import { QueryClient, VueQueryPlugin } from '@tanstack/vue-query'
import { createApp } from 'vue'

import App from './app/App.vue'
import { router } from './app/router'
import './app/theme'
import './style/main.css'

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: 1,
      gcTime: 15_000,
      refetchOnWindowFocus: false,
      placeholderData: (before: unknown) => before,
      // Answers are read, not written to: watching each of their thousands of values costs half of the drawing.
      shallow: true,
    },
  },
})

createApp(App).use(router).use(VueQueryPlugin, { queryClient: queries }).mount('#app')

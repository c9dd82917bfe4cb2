import { QueryClient, VueQueryPlugin } from '@tanstack/vue-query'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import '@fontsource-variable/spline-sans'
import '@fontsource-variable/spline-sans-mono'
import './style.css'
import App from './App.vue'
import { ApiError } from '../api/client'
import { router } from './router'

// Takes never change, so what was fetched of one stays true. A question that
// the server refused is not asked again; one that it could not answer is.
// Answers are replaced whole: following each of their values would cost more
// than painting them.
const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5 * 60_000,
      refetchOnWindowFocus: false,
      shallow: true,
      structuralSharing: false,
      retry: (count, error) => count < 2 && !(error instanceof ApiError && error.status < 500),
    },
  },
})

createApp(App).use(createPinia()).use(router).use(VueQueryPlugin, { queryClient: queries }).mount('#app')

declare module 'vuetify/styles'
declare module '@fontsource-variable/source-sans-3'

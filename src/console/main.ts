import { mount } from 'svelte';
import App from './App.svelte';
import './app.css';
import { theme } from './state/theme.svelte.ts';

theme.apply();
mount(App, { target: document.getElementById('app') ?? document.body });

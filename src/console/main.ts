import { mount } from 'svelte';
import App from './App.svelte';
import './app.css';
import { look } from './state/look.svelte.ts';

look.apply();
mount(App, { target: document.getElementById('app') ?? document.body });

import { mount } from 'svelte';
import Handover from './Handover.svelte';
import './handover.css';

mount(Handover, { target: document.getElementById('app')! });
